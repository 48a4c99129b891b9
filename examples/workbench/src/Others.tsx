/** What goes to quarantine, and what a condition decides. */

import { Code, ScrollArea, Stack, Table, Text } from "@mantine/core";
import type { Shown, ShownDecision } from "./protocol.js";

export function Misfits({ misfits, misfitCount }: Pick<Shown, "misfits" | "misfitCount">) {
  if (misfitCount === 0) return <Text size="sm">Every record fits.</Text>;
  return (
    <Stack gap="sm">
      <Text size="sm">
        {misfitCount.toLocaleString("en-US")} would be kept whole, beside the tables, and stop no other.
      </Text>
      {misfits.map(({ message, record }, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: they come in the answer's order, and stay in it
        <div key={i}>
          <Text size="sm" fw={600}>
            {message}
          </Text>
          <Code block>{record}</Code>
        </div>
      ))}
    </Stack>
  );
}

export function Decisions({ decisions }: { readonly decisions: readonly ShownDecision[] }) {
  if (decisions.length === 0)
    return (
      <Text size="sm">The stream has no where: every record is kept. Try: where: record.beds &gt; 0</Text>
    );
  return (
    <ScrollArea type="auto" viewportProps={{ tabIndex: 0, role: "region", "aria-label": "decisions" }}>
      <Table fz="xs" striped>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>record</Table.Th>
            <Table.Th>is</Table.Th>
            <Table.Th>decided by</Table.Th>
            <Table.Th>which has</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {decisions.map(({ record, kept, part, values }) => (
            <Table.Tr key={record}>
              <Table.Td>{record}</Table.Td>
              <Table.Td>{kept}</Table.Td>
              <Table.Td>
                <Code>{part}</Code>
              </Table.Td>
              <Table.Td>{values}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </ScrollArea>
  );
}
