/** Where files are kept: the few things that a folder, an object store and a server of files have in common. */

/** A file by its name: the path from the top of the store, with slashes. */
export interface StoredFile {
  readonly name: string;
  readonly bytes: number;
}

/** A place for files while it is open. Every call throws BridgeErrors: WAREHOUSE_UNREACHABLE, FILE_UNWRITABLE. */
export interface Store {
  /** the folder, where its files can be read without being fetched */
  readonly root?: string | undefined;
  /** All files whose names begin so. */
  list(prefix: string): Promise<StoredFile[]>;
  has(name: string): Promise<boolean>;
  /** Fetches a file to a path on this machine. */
  fetch(name: string, path: string): Promise<void>;
  /** Takes a file of this machine in, over one of the same name; whole or not at all. The file at the path may go. */
  put(path: string, name: string): Promise<void>;
  /** The same where there is none of that name; false where there is one. Of two that try at once, one succeeds. */
  putNew(path: string, name: string): Promise<boolean>;
  /** Gives a file another name, over one that has it; what was moved already may be moved again. */
  move(from: string, to: string): Promise<void>;
  /** Removes a file, where it is there. */
  remove(name: string): Promise<void>;
  close(): Promise<void>;
}

/** A place for files that is not open yet. */
export interface StorePlace {
  /** how messages name it */
  readonly title: string;
  /** tells one place from another on this machine */
  readonly id: string;
  /** a folder on this machine */
  readonly root?: string | undefined;
  /** how what is sent is kept from others; none: it is not */
  readonly way?: string | undefined;
  /** what whoever runs a bridge has to be allowed, in words or in the place's own language */
  readonly grants: string;
  /** @throws BridgeError WAREHOUSE_UNREACHABLE */
  open(): Promise<Store>;
}
