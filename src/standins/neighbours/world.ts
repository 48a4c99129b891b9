/** What the federation's other services share while they are up. */
export interface World {
  /** hours that have passed since the beginning, by `/_tick` */
  hoursPassed: number;
  /** the sensors' limit, which they tell nothing of; null: none */
  readonly sensorsPerSecond: number | null;
}
