/** The board: occupancy, revenue, countries, the latest bookings, and one of them in both its forms. */

import { Button, Card, Code, Group, Select, SimpleGrid, Text, TextInput, Title } from "@mantine/core";
import * as Plot from "@observablehq/plot";
import { useCallback, useEffect, useMemo, useState } from "react";
import { type BoardData, type Booking, type Filters, fetchJson, type Hut } from "./data.js";
import { Figure } from "./Figure.js";
import { LatestTable } from "./LatestTable.js";
import { useRun } from "./useRun.js";

const ALL: Filters = { hut: "", from: "", to: "" };

export function Board() {
  const [huts, setHuts] = useState<readonly Hut[]>([]);
  const [filters, setFilters] = useState(ALL);
  const [data, setData] = useState<BoardData>();
  const [chosen, setChosen] = useState<string>();
  const [fault, setFault] = useState("");
  const load = useCallback(() => {
    fetchJson<BoardData>("/api/board", { ...filters }).then(setData, (error: Error) =>
      setFault(error.message),
    );
  }, [filters]);
  useEffect(() => {
    fetchJson<Hut[]>("/api/huts").then(setHuts, (error: Error) => setFault(error.message));
  }, []);
  useEffect(load, [load]);
  const run = useRun(load);
  return (
    <div className="page">
      <header>
        <Group gap="sm" align="end">
          <Title order={1} size="h3" mr="md">
            Hut board
          </Title>
          <Select
            label="Hut"
            size="xs"
            placeholder="all huts"
            clearable
            searchable
            data={huts.map(({ id, name, region }) => ({ value: id, label: `${name}, ${region}` }))}
            value={filters.hut === "" ? null : filters.hut}
            onChange={(hut) => setFilters({ ...filters, hut: hut ?? "" })}
            clearButtonProps={{ "aria-label": "all huts" }}
          />
          <TextInput
            label="From"
            size="xs"
            type="date"
            value={filters.from}
            onChange={({ target }) => setFilters({ ...filters, from: target.value })}
          />
          <TextInput
            label="To"
            size="xs"
            type="date"
            value={filters.to}
            onChange={({ target }) => setFilters({ ...filters, to: target.value })}
          />
          <Button size="xs" loading={run.isRunning} onClick={run.start}>
            Take the news
          </Button>
          <Text size="sm" aria-live="polite">
            {fault || run.words}
          </Text>
        </Group>
      </header>
      {data !== undefined && <Figures data={data} onChoose={setChosen} />}
      {chosen !== undefined && <BothForms id={chosen} />}
    </div>
  );
}

function Figures({ data, onChoose }: { readonly data: BoardData; readonly onChoose: (id: string) => void }) {
  const { totals, occupancy, revenue, countries, latest } = data;
  const plots = useMemo(() => {
    const day = (week: string) => new Date(`${week}T00:00:00Z`);
    const bars = { fill: "var(--mantine-primary-color-filled)" };
    return {
      occupancy: {
        marginLeft: 80,
        x: {
          type: "band",
          label: null,
          tickFormat: (week: string, i: number) => (i % 3 === 0 ? week.slice(5) : ""),
        },
        y: { label: null },
        color: { scheme: "YlGnBu", label: "beds taken, %", legend: true, zero: true },
        marks: [
          Plot.cell(occupancy, {
            x: "week",
            y: "region",
            fill: ({ share }) => share * 100,
            inset: 0.5,
            title: ({ region, week, share }) => `${region}, week of ${week}: ${Math.round(share * 100)} %`,
          }),
        ],
      } as Plot.PlotOptions,
      revenue: {
        marginLeft: 56,
        y: { label: "EUR a week", grid: true },
        marks: [
          Plot.rectY(revenue, { x: ({ week }) => day(week), y: "amount", interval: "week", ...bars }),
          Plot.ruleY([0]),
        ],
      } as Plot.PlotOptions,
      countries: {
        marginLeft: 64,
        x: { label: "guests", grid: true },
        y: { label: null, domain: countries.map(({ country }) => country) },
        marks: [Plot.barX(countries, { x: "guests", y: "country", ...bars }), Plot.ruleX([0])],
      } as Plot.PlotOptions,
    };
  }, [occupancy, revenue, countries]);
  const count = (value: number) => Math.round(value).toLocaleString("en-US");
  return (
    <main>
      <Text my="sm">
        <b>{count(totals.bookings)}</b> bookings, <b>{count(totals.guests)}</b> guests,{" "}
        <b>{count(totals.revenue)}</b> EUR confirmed
      </Text>
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="sm">
        <Card withBorder padding="xs">
          <Title order={2} size="h5">
            Occupancy by region and week
          </Title>
          <Figure label="share of beds taken, by region and week" options={plots.occupancy} />
        </Card>
        <Card withBorder padding="xs">
          <Title order={2} size="h5">
            Revenue by week
          </Title>
          <Figure label="revenue of confirmed bookings by week" options={plots.revenue} />
        </Card>
        <Card withBorder padding="xs">
          <Title order={2} size="h5">
            Guests by country
          </Title>
          <Figure label="guests by country of the one who booked" options={plots.countries} />
        </Card>
        <Card withBorder padding="xs">
          <Title order={2} size="h5" mb={4}>
            Latest bookings
          </Title>
          <LatestTable rows={latest} onChoose={onChoose} />
        </Card>
      </SimpleGrid>
    </main>
  );
}

/** What the warehouse holds of a booking, and the record that the API gave. */
function BothForms({ id }: { readonly id: string }) {
  const [booking, setBooking] = useState<Booking>();
  useEffect(() => {
    fetchJson<Booking>("/api/booking", { id }).then(setBooking, () => setBooking(undefined));
  }, [id]);
  if (booking === undefined) return null;
  return (
    <section aria-label="one booking">
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="sm" mt="sm">
        <Card withBorder padding="xs">
          <Title order={2} size="h5">
            Booking {id} as the API gave it
          </Title>
          <Code block tabIndex={0}>
            {JSON.stringify(booking.record, undefined, 2)}
          </Code>
        </Card>
        <Card withBorder padding="xs">
          <Title order={2} size="h5">
            and as rows
          </Title>
          <Code block tabIndex={0}>
            {JSON.stringify(booking.rows, undefined, 2)}
          </Code>
        </Card>
      </SimpleGrid>
    </section>
  );
}
