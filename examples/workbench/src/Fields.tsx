/** How full and how varied each field is. */

import { Box, ScrollArea, Table, Text } from "@mantine/core";
import * as Plot from "@observablehq/plot";
import { useEffect, useRef } from "react";
import type { ShownField } from "./protocol.js";

export function Fields({ fields }: { readonly fields: readonly ShownField[] }) {
  return (
    <>
      <FilledPlot fields={fields} />
      <ScrollArea type="auto" viewportProps={{ tabIndex: 0, role: "region", "aria-label": "fields" }}>
        <Table fz="xs" verticalSpacing={3} striped>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>field</Table.Th>
              <Table.Th ta="right">filled</Table.Th>
              <Table.Th>types</Table.Th>
              <Table.Th ta="right">distinct</Table.Th>
              <Table.Th>least … greatest</Table.Th>
              <Table.Th>most frequent, or one of them</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {fields.map(({ path, share, types, distinct, least, greatest, frequent, example }) => (
              <Table.Tr key={path}>
                <Table.Td>{path}</Table.Td>
                <Table.Td ta="right">{Math.floor(share * 100)} %</Table.Td>
                <Table.Td>{types}</Table.Td>
                <Table.Td ta="right">{distinct}</Table.Td>
                <Table.Td className="clip">{least === greatest ? least : `${least} … ${greatest}`}</Table.Td>
                <Table.Td className="clip">
                  {frequent.length === 0
                    ? example
                    : frequent.map(({ value, times }) => `${value || '""'} ×${times}`).join(", ")}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </ScrollArea>
    </>
  );
}

/** So many fields fit into the picture. */
const MOST_SHOWN = 40;

function FilledPlot({ fields }: { readonly fields: readonly ShownField[] }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const some = fields.slice(0, MOST_SHOWN);
    const plot = Plot.plot({
      height: 90,
      width: Math.max(320, some.length * 22),
      marginBottom: 4,
      marginLeft: 36,
      ariaLabel: "share of objects in which each field holds something",
      x: { axis: null, domain: some.map(({ path }) => path) },
      y: { domain: [0, 100], label: "filled, %", ticks: 3, grid: true },
      marks: [
        Plot.barY(some, {
          x: "path",
          y: (field: ShownField) => field.share * 100,
          fill: "currentColor",
          title: "path",
        }),
        Plot.ruleY([0]),
      ],
    });
    // one picture with one name, and not a tree of unnamed parts
    plot.setAttribute("role", "img");
    for (const part of plot.querySelectorAll("[aria-label]")) part.removeAttribute("aria-label");
    host.current?.replaceChildren(plot);
  }, [fields]);
  if (fields.length === 0) return <Text size="sm">No field yet.</Text>;
  return <Box ref={host} className="plot" tabIndex={0} role="region" aria-label="how full the fields are" />;
}
