/** Which addresses lead to machines that only this one can reach. */

import { lookup } from "node:dns/promises";
import { BlockList, isIP } from "node:net";

/** Whether any of a host's addresses is in a private network (RFC 1918, 4193, 6598), or this machine. */
export async function isPrivateHost(host: string): Promise<boolean> {
  const found = isIP(host) === 0 ? await lookup(host, { all: true }).catch(() => []) : [{ address: host }];
  return found.some(({ address }) => isPrivate(address));
}

const PRIVATE = new BlockList();
for (const [net, bits] of [
  ["0.0.0.0", 8],
  ["10.0.0.0", 8],
  ["100.64.0.0", 10],
  ["127.0.0.0", 8],
  ["169.254.0.0", 16],
  ["172.16.0.0", 12],
  ["192.168.0.0", 16],
] as const)
  PRIVATE.addSubnet(net, bits, "ipv4");
for (const [net, bits] of [
  ["::", 127],
  ["fc00::", 7],
  ["fe80::", 10],
] as const)
  PRIVATE.addSubnet(net, bits, "ipv6");

function isPrivate(address: string): boolean {
  return PRIVATE.check(address, isIP(address) === 6 ? "ipv6" : "ipv4");
}
