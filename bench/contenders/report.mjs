// What every contender tells at its end: seconds of work (without the process's start), rows by table, peak memory.
export async function measured(work) {
  const from = process.hrtime.bigint();
  const rows = await work();
  const seconds = Number(process.hrtime.bigint() - from) / 1e9;
  process.send({ seconds, rows, peakMb: process.resourceUsage().maxRSS / 1024 });
  process.disconnect();
}

export const { url, folder, database, set, rules } = JSON.parse(process.argv[2]);
