/** A server of SFTP for tests: OpenSSH's own, for the user that runs them, on a port of its own. */

import { execFileSync, spawn } from "node:child_process";
import { createHash } from "node:crypto";
import { once } from "node:events";
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir, userInfo } from "node:os";
import { join } from "node:path";
import { freePort } from "./free-port.js";

const SSHD = "/usr/sbin/sshd";
export const hasSshd = existsSync(SSHD);

/** Starts it over a folder; signing in goes by a key. */
export async function startSshd() {
  const home = mkdtempSync(join(tmpdir(), "early-bridge-sshd-"));
  const files = join(home, "files");
  mkdirSync(files);
  const key = (name: string) => {
    execFileSync("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", join(home, name)]);
    return join(home, name);
  };
  const [host, own] = [key("host"), key("own")];
  writeFileSync(join(home, "allowed"), readFileSync(`${own}.pub`));
  const port = await freePort();
  writeFileSync(
    join(home, "config"),
    [
      `Port ${port}`,
      "ListenAddress 127.0.0.1",
      `HostKey ${host}`,
      `AuthorizedKeysFile ${join(home, "allowed")}`,
      `PidFile ${join(home, "pid")}`,
      "PasswordAuthentication no",
      "KbdInteractiveAuthentication no",
      "PermitRootLogin yes",
      "StrictModes no",
      "UsePAM no",
      "Subsystem sftp internal-sftp",
    ].join("\n"),
  );
  // where the rights of the connection are given up
  if (userInfo().uid === 0) mkdirSync("/run/sshd", { recursive: true });
  const server = spawn(SSHD, ["-D", "-e", "-f", join(home, "config")], {
    stdio: ["ignore", "ignore", "pipe"],
  });
  const ended = once(server, "exit");
  for await (const piece of server.stderr) if (String(piece).includes("Server listening")) break;
  const blob = Buffer.from(readFileSync(`${host}.pub`, "utf8").split(" ")[1]!, "base64");
  return {
    files,
    url: `sftp://${userInfo().username}@127.0.0.1:${port}${files}`,
    private_key: readFileSync(own, "utf8"),
    host_key: `SHA256:${createHash("sha256").update(blob).digest("base64").replace(/=+$/, "")}`,
    stop: async () => {
      server.kill();
      await ended;
      rmSync(home, { recursive: true, force: true });
    },
  };
}
