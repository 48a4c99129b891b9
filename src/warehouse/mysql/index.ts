/** The MySQL warehouse: `mysql("mysql://user@host")`. */

import type { Warehouse } from "../warehouse.js";
import { MYSQL } from "./make.js";
import { serverAt } from "./server.js";

/**
 * Tables in a MySQL server, from version 8.0.19 on; a schema is a database there. A name in the address is put before
 * those of the databases: `mysql://bridge@db.huts.example/team` makes `team_early_bridge`, `team_bookings`, ….
 * `ssl-mode=verify_identity` has the server's certificate checked.
 * @throws BridgeError when opened: URL_INVALID, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export const mysql = (url: string): Warehouse => serverAt(MYSQL, url);
