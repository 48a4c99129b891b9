/** Lists of values with their names apart: header rows, as spreadsheets and CSV have them. */

/** A row of CSV has a field for each name; any other stays a list: it is kept in quarantine. */
export function nameFields(row: readonly unknown[], names: readonly unknown[]): unknown {
  return row.length === names.length ? nameValues(row, names) : row;
}

/**
 * Lists of values as objects; the names are given, or in the first list. A list of another length stays a
 * list: no table takes it, so it is kept in quarantine.
 */
export function namedRows(rows: readonly unknown[], header: true | readonly unknown[]): unknown[] {
  const given = (header === true ? rows[0] : header) as readonly unknown[] | undefined;
  const from = header === true ? 1 : 0;
  if (!Array.isArray(given)) return [];
  const names = columnNames(given);
  return rows.slice(from).map((row) => nameValues(row, names));
}

/** The names of a header row, each once: a name that comes again gets a number, one that is empty its place. */
export function columnNames(header: readonly unknown[]): string[] {
  const names = new Set<string>();
  const given = new Set(header.map(String));
  for (const [i, raw] of header.entries()) {
    const name = raw === null || raw === "" ? `column_${i + 1}` : String(raw);
    let unique = name;
    for (let n = 2; names.has(unique) || (unique !== name && given.has(unique)); n++) unique = `${name}_${n}`;
    names.add(unique);
  }
  return [...names];
}

export function nameValues(row: unknown, names: readonly unknown[]): unknown {
  if (!Array.isArray(row) || row.length > names.length) return row;
  // services that give lists of values leave out the empty ones at the end
  return Object.fromEntries(names.map((name, i) => [String(name), row[i] ?? null]));
}
