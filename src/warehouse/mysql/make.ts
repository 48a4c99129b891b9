/** What MariaDB and MySQL, which speak one protocol, do differently. */

export interface ServerMake {
  readonly title: "MariaDB" | "MySQL";
  /** how a project names it, and what its addresses begin with */
  readonly word: "mariadb" | "mysql";
  /** an earlier version lacks what is needed */
  readonly least: readonly number[];
  /** texts are equal where their characters are, blanks at the end as well */
  readonly collation: string;
  /** whether IF [NOT] EXISTS may be said of columns and indexes */
  readonly knowsIfExists: boolean;
  /** what is put before each row of VALUES */
  readonly rowWord: "" | "ROW";
  /** an index of a temporary table has so many bytes, at most */
  readonly stageIndexBytes: number;
  /** settings that are wished for, of those who may set them */
  readonly wishes: readonly string[];
}

export const MARIADB: ServerMake = {
  title: "MariaDB",
  word: "mariadb",
  // no JSON_TABLE before it
  least: [10, 6],
  collation: "utf8mb4_nopad_bin",
  knowsIfExists: true,
  rowWord: "",
  stageIndexBytes: 1000,
  // what is gone with its connection needs no log, and no way back
  wishes: ["SET SESSION default_tmp_storage_engine = MyISAM"],
};

export const MYSQL: ServerMake = {
  title: "MySQL",
  word: "mysql",
  // no rows of VALUES before it
  least: [8, 0, 19],
  collation: "utf8mb4_0900_bin",
  knowsIfExists: false,
  rowWord: "ROW",
  stageIndexBytes: 3072,
  // tables have a primary key of their own, or none
  wishes: [
    "SET SESSION sql_require_primary_key = OFF",
    "SET SESSION sql_generate_invisible_primary_key = OFF",
  ],
};

/** Of which make a server is, by what it says of its version. */
export const makeOf = (version: string): ServerMake => (version.includes("MariaDB") ? MARIADB : MYSQL);

/** Whether a version such as 10.11.19-MariaDB has all that is needed. */
export function isRecent(version: string, { least }: ServerMake): boolean {
  const parts = version.split(/[.-]/).map(Number);
  for (const [i, wanted] of least.entries()) {
    const part = parts[i] ?? 0;
    if (part !== wanted) return part > wanted;
  }
  return true;
}
