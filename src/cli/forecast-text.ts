/** A forecast as people read it: a table of figures, then what they rest on. */

import colors from "picocolors";
import type { Figure, StreamForecast } from "../run/forecast.js";
import { bytesText, countText, timeText } from "./format.js";
import { tableText } from "./table.js";

/** Runs in a month, where there is one a day. */
const RUNS_OF_A_MONTH = 30;

export function forecastText(forecasts: readonly StreamForecast[]): string {
  const hasDays = forecasts.some(({ days }) => days !== undefined);
  const columns = [
    { title: "stream" },
    { title: "requests", right: true },
    { title: "records", right: true },
    { title: "rows", right: true, leaves: 1 },
    { title: "bytes", right: true, leaves: 2 },
    { title: "takes", right: true },
    ...(hasDays ? [{ title: "days", right: true }] : []),
    { title: "a later run", right: true },
    { title: "a month of daily runs", right: true, leaves: 3 },
  ];
  const rows = forecasts.map(({ stream, requests, records, rows, bytes, ms, days, later }) => [
    stream,
    figureText(requests, countText),
    figureText(records, countText),
    figureText(rows, countText),
    figureText(bytes, bytesText),
    figureText(ms, timeText),
    ...(hasDays ? [days === undefined ? "" : figureText(days, countText)] : []),
    figureText(later, countText),
    figureText(monthOf(requests, later), countText),
  ]);
  const grounds = forecasts.map(
    ({ stream, requests, ms, later }) =>
      `  ${colors.dim(stream.padEnd(Math.max(...forecasts.map((each) => each.stream.length))))}  ${groundsText(requests, ms, later)}`,
  );
  return [
    colors.bold("Forecast of reading all there is"),
    tableText(columns, rows),
    "",
    ...grounds,
    colors.dim("  ~ likely   ≈ rough   ? unknown"),
  ].join("\n");
}

function groundsText(requests: Figure, ms: Figure, later: Figure): string {
  const time = ms.value === undefined ? "" : `; time by ${ms.restsOn}`;
  const runs = later.restsOn === requests.restsOn ? "" : `; later runs: ${later.restsOn}`;
  return `${requests.restsOn}${time}${runs}`;
}

const MARKS = { counted: "", likely: "~", rough: "≈", unknown: "?" };

function figureText({ value, sureness }: Figure, text: (value: number) => string): string {
  return value === undefined ? colors.yellow("?") : `${MARKS[sureness]}${text(value)}`;
}

/** The first run reads all, the others what has changed. */
function monthOf(whole: Figure, later: Figure): Figure {
  const value =
    whole.value === undefined || later.value === undefined
      ? undefined
      : whole.value + (RUNS_OF_A_MONTH - 1) * later.value;
  return { ...later, value };
}
