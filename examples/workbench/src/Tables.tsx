/** The tables that the records become. */

import { Badge, Group, ScrollArea, Stack, Table, Text, Title } from "@mantine/core";
import { createColumnHelper, flexRender, getCoreRowModel, useReactTable } from "@tanstack/react-table";
import { useMemo } from "react";
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

function OneTable({ table: { name, columns, rows, count } }: { readonly table: ShownTable }) {
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
        <Table stickyHeader striped withColumnBorders fz="xs" verticalSpacing={2}>
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
                  <Table.Td key={cell.id}>{String(cell.getValue())}</Table.Td>
                ))}
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </ScrollArea.Autosize>
    </section>
  );
}
