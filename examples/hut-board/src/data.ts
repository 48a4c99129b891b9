/** What the server tells. */

export interface Hut {
  readonly id: string;
  readonly name: string;
  readonly region: string;
}

export interface Filters {
  readonly hut: string;
  readonly from: string;
  readonly to: string;
}

export interface Latest {
  readonly id: string;
  readonly reference: string;
  readonly hut: string;
  readonly state: string;
  readonly guest: string;
  readonly guests: number;
  readonly from: string;
  readonly to: string;
  readonly price: number | null;
}

export interface BoardData {
  readonly totals: { readonly bookings: number; readonly guests: number; readonly revenue: number };
  readonly occupancy: readonly { readonly region: string; readonly week: string; readonly share: number }[];
  readonly revenue: readonly { readonly week: string; readonly amount: number }[];
  readonly countries: readonly { readonly country: string; readonly guests: number }[];
  readonly latest: readonly Latest[];
}

export interface Booking {
  readonly rows: Readonly<Record<string, unknown>>;
  readonly record: unknown;
}

export async function fetchJson<T>(path: string, query: Readonly<Record<string, string>> = {}): Promise<T> {
  const response = await fetch(`${path}?${new URLSearchParams(query)}`);
  if (!response.ok) throw new Error(`The server answers ${response.status} at ${path}.`);
  return (await response.json()) as T;
}
