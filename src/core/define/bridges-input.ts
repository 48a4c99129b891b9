/** Made by `npm run schemas` from the zod schema of the file. */

/** Early Bridge project: accounts, warehouses, and the bridges between them */
export interface ProjectInput {
  /** Settings and secrets for connectors, by name */
  accounts: {
    /**
     * One customer's settings for a connector; secrets as $NAME from the environment or .env, or $file:path
     */
    [k: string]: {
      /** Path of the connector file, from this file's folder */
      connector: string;
      /** How the account's requests travel */
      http?: Http | undefined;
      /** A warehouse whose ledger keeps the account's tokens; left out, files in your config folder */
      keep_tokens?: string | undefined;
      [k: string]: string | number | boolean | Http | undefined;
    };
  };
  /** Where tables live, by name */
  warehouses: {
    [k: string]: {
      /** Path of the DuckDB file, from this file's folder */
      duckdb: string;
    };
  };
  /** Which account's streams go into which warehouse */
  bridges: {
    [k: string]: {
      /** The account */
      from: string;
      /** The warehouse */
      to: string;
      /** The warehouse schema of the tables; default: the bridge's name */
      schema?: string | undefined;
      /** The streams to carry; left out, all of them */
      streams?:
        | {
            [k: string]: {
              /**
               * upsert: by key (default where there is one); replace: built beside the old table, swapped in at the end
               */
              write?: ("upsert" | "replace") | undefined;
            };
          }
        | undefined;
      /** When rows and cursor are committed together */
      checkpoint?: Checkpoint | undefined;
    };
  };
}
/** How the account's requests travel */
export interface Http {
  /** Address of a proxy; default: HTTPS_PROXY, HTTP_PROXY and NO_PROXY */
  proxy?: string | undefined;
  /** The User-Agent header; default: early-bridge */
  user_agent?: string | undefined;
  /** Sent with every request of the account */
  headers?:
    | {
        [k: string]: string;
      }
    | undefined;
  /** Until a connection stands; default PT10S */
  connect_timeout?: string | undefined;
  /** Until a response begins, and between its pieces; default PT60S */
  response_timeout?: string | undefined;
  /** File with the certificates of a custom authority, PEM */
  ca?: string | undefined;
  /** File with our own certificate, for mutual TLS, PEM */
  cert?: string | undefined;
  /** File with the key of our own certificate, PEM */
  key?: string | undefined;
}
/** When rows and cursor are committed together */
export interface Checkpoint {
  /** Rows between two checkpoints, at most. Default: 200000 */
  rows?: number | undefined;
  /** Time between two checkpoints, at most. Default: "PT30S" */
  every?: string | undefined;
}
