/** The latest bookings; one can be chosen by its reference. */

import { Button, ScrollArea, Table } from "@mantine/core";
import { createColumnHelper, flexRender, getCoreRowModel, useReactTable } from "@tanstack/react-table";
import { useMemo } from "react";
import type { Latest } from "./data.js";

const helper = createColumnHelper<Latest>();

export function LatestTable({
  rows,
  onChoose,
}: {
  readonly rows: readonly Latest[];
  readonly onChoose: (id: string) => void;
}) {
  const columns = useMemo(
    () => [
      helper.accessor("reference", {
        header: "booking",
        cell: ({ row }) => (
          <Button variant="subtle" size="compact-xs" onClick={() => onChoose(row.original.id)}>
            {row.original.reference}
          </Button>
        ),
      }),
      helper.accessor("hut", { header: "hut" }),
      helper.accessor("guest", { header: "booked by" }),
      helper.accessor("state", { header: "state" }),
      helper.accessor((row) => `${row.from} – ${row.to}`, { id: "stay", header: "stay" }),
    ],
    [onChoose],
  );
  const data = useMemo(() => [...rows], [rows]);
  const table = useReactTable({ data, columns, getCoreRowModel: getCoreRowModel() });
  return (
    <ScrollArea.Autosize
      mah={210}
      type="auto"
      viewportProps={{ tabIndex: 0, role: "region", "aria-label": "latest bookings" }}
    >
      <Table fz="xs" verticalSpacing={1} stickyHeader>
        <Table.Thead>
          {table.getHeaderGroups().map((group) => (
            <Table.Tr key={group.id}>
              {group.headers.map((header) => (
                <Table.Th key={header.id}>
                  {flexRender(header.column.columnDef.header, header.getContext())}
                </Table.Th>
              ))}
            </Table.Tr>
          ))}
        </Table.Thead>
        <Table.Tbody>
          {table.getRowModel().rows.map((row) => (
            <Table.Tr key={row.id}>
              {row.getVisibleCells().map((cell) => (
                <Table.Td key={cell.id}>{flexRender(cell.column.columnDef.cell, cell.getContext())}</Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </ScrollArea.Autosize>
  );
}
