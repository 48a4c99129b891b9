/** The MariaDB warehouse: `mariadb("mariadb://user@host")`. */

import type { Warehouse } from "../warehouse.js";
import { MARIADB } from "./make.js";
import { serverAt } from "./server.js";

/**
 * Tables in a MariaDB server, from version 10.6 on; a schema is a database there. A name in the address is put before
 * those of the databases: `mariadb://bridge@db.huts.example/team` makes `team_early_bridge`, `team_bookings`, ….
 * `ssl-mode=verify_identity` has the server's certificate checked.
 * @throws BridgeError when opened: URL_INVALID, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export const mariadb = (url: string): Warehouse => serverAt(MARIADB, url);
