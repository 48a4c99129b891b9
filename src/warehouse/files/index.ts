/** The files warehouse: tables as files in a folder, with the ledger beside them. */

import type { FilesInput } from "../../core/define/files-schema.js";
import type { Warehouse } from "../warehouse.js";
import { localFolder } from "./local-folder.js";
import { filesWarehouse } from "./session.js";

/**
 * A warehouse of Parquet, CSV or JSON Lines files in a folder, which is made where there is none.
 * @throws BridgeError when opened: WAREHOUSE_LOCKED, WAREHOUSE_NOT_OURS, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function folder(path: string, files: FilesInput = {}): Warehouse {
  return filesWarehouse(localFolder(path), files);
}
