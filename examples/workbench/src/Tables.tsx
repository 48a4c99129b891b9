/** The tables that the records become. */

import { Badge, Group, ScrollArea, Stack, Table, Text, Title } from "@mantine/core";
import {
  createColumnHelper,
  flexRender,
  getCoreRowModel,
  type Row,
  useReactTable,
} from "@tanstack/react-table";
import { memo, useMemo } from "react";
import type { ShownTable } from "./protocol.js";

export function Tables({ tables }: { readonly tables: readonly ShownTable[] }) {
  return (
    <Stack gap="lg">
      {tables.map((table) => (
        <OneTable key={table.name} table={table} />
      ))}
    </Stack>
  );
}

const helper = createColumnHelper<readonly string[]>();

type Cells = Row<readonly string[]>;

/** Most edits leave most rows as they were: those are not drawn anew. Plain elements: there are many. */
const OneRow = memo(
  function OneRow({ row }: { readonly row: Cells }) {
    return (
      <tr>
        {row.getVisibleCells().map((cell) => (
          <td key={cell.id}>{String(cell.getValue())}</td>
        ))}
      </tr>
    );
  },
  (before, { row }) => isSame(before.row.original, row.original),
);

function isSame(a: unknown, b: unknown): boolean {
  return JSON.stringify(a) === JSON.stringify(b);
}

const OneTable = memo(function OneTable({ table: given }: { readonly table: ShownTable }) {
  const { name, columns, rows, count } = given;
  const definitions = useMemo(
    () =>
      columns.map((column, i) =>
        helper.accessor((row) => row[i] ?? "", {
          id: column.name,
          header: () => (
            <>
              {column.name}
              <Text span size="xs" c="dimmed" className="type">
                {column.type}
                {column.declared ? ", declared" : ""}
              </Text>
            </>
          ),
        }),
      ),
    [columns],
  );
  const data = useMemo(() => [...rows], [rows]);
  const table = useReactTable({ data, columns: definitions, getCoreRowModel: getCoreRowModel() });
  return (
    <section aria-label={`table ${name}`}>
      <Group gap="xs" mb={4}>
        <Title order={3} size="h5">
          {name}
        </Title>
        <Badge variant="default" tt="none">
          {count.toLocaleString("en-US")} {count === 1 ? "row" : "rows"}
        </Badge>
        {rows.length < count && (
          <Text size="xs" c="dimmed">
            the first {rows.length} are shown
          </Text>
        )}
      </Group>
      <ScrollArea.Autosize
        mah={320}
        type="auto"
        viewportProps={{ tabIndex: 0, role: "region", "aria-label": `rows of ${name}` }}
      >
        <Table stickyHeader withColumnBorders fz="xs" verticalSpacing={2}>
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
          <tbody className="rows">
            {table.getRowModel().rows.map((row) => (
              <OneRow key={row.id} row={row} />
            ))}
          </tbody>
        </Table>
      </ScrollArea.Autosize>
    </section>
  );
}, isSame);
