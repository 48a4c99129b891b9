/** What operating systems call it when a file cannot be used (POSIX.1-2024, errno.h), in words. */

const WORDS: Readonly<Record<string, string>> = {
  EACCES: "permission is denied",
  EPERM: "that is not permitted",
  EROFS: "the disk can only be read",
  ENOSPC: "no space is left",
  EDQUOT: "the quota is used up",
  EISDIR: "it is a folder",
  ENOTDIR: "a part of its path is no folder",
  ENOENT: "it is not there",
  EEXIST: "it is there already",
  ENOTEMPTY: "the folder is not empty",
  ENAMETOOLONG: "its name is too long",
  ELOOP: "its links lead in a circle",
  EMFILE: "this process has too many files open",
  ENFILE: "this machine has too many files open",
  EBUSY: "something else is using it",
  EFBIG: "it would grow too large",
  EIO: "the disk has failed",
  ETXTBSY: "it is being run",
  EXDEV: "it is on another disk",
};

/** Copying tells the system's words apart from its own. */
const OWN_CODES: Readonly<Record<string, string>> = {
  ERR_FS_CP_NON_DIR_TO_DIR: "ENOTDIR",
  ERR_FS_CP_DIR_TO_NON_DIR: "ENOTDIR",
  ERR_FS_EISDIR: "EISDIR",
};

/**
 * What a file has refused, as one sentence; undefined for what is no fault of a file. `name` is for where the system
 * tells none.
 */
export function systemFault(error: unknown, name?: string): string | undefined {
  if (!(error instanceof Error)) return undefined;
  const {
    code = "",
    path,
    dest,
    syscall,
  } = error as Error & Record<"code" | "path" | "dest" | "syscall", string>;
  const words = WORDS[OWN_CODES[code] ?? code];
  // sockets have some of these codes as well, and no path that a user would know
  if (words === undefined || syscall === "connect") return undefined;
  const at = dest ?? path ?? name;
  return at === undefined ? `A file cannot be used: ${words}.` : `${at} cannot be used: ${words}.`;
}
