/** Made by `npm run schemas` from the zod schema of the file. */

/** What a POST sends */
export type Body =
  | {
      /** The body, as it is sent */
      json: Json;
    }
  | {
      /** Fields of the form */
      form: {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      };
    }
  | {
      /** A text in which {name} stands for a value */
      xml: string;
    }
  | {
      /** A text in which {name} stands for a value */
      text: string;
      /** Its media type. Default: "text/plain; charset=utf-8" */
      type?: string | undefined;
    };
export type Json =
  | string
  | number
  | boolean
  | null
  | Json[]
  | {
      [k: string]: Json;
    };
/** How a response is written */
export type Response =
  | ("json" | "json_lines" | "csv" | "xml")
  | {
      /** CSV, RFC 4180 */
      csv: Csv;
    }
  | {
      /** XML, with what its form does not tell */
      xml: {
        /** Elements that are lists even where there is one only */
        lists?: string[] | undefined;
      };
    }
  | {
      /** JSON whose records are lists of values */
      json: {
        /** Records are lists of values; a page's first holds the names */
        header_row?: true | undefined;
        /** Records are lists of values; the names are there in the response */
        names?: string | undefined;
      };
    };
/** Where a value is: a JSONPath into the body, or a response header */
export type Place =
  | string
  | {
      /** Name of a response header */
      header: string;
    };

/** Early Bridge connector: what is known of one API */
export interface ConnectorInput {
  /** The connector's name */
  connector: string;
  /** A name for people */
  title?: string | undefined;
  /** The connector's own version. Default: "1.0.0" */
  version?: string | undefined;
  /** What differs from account to account; {name} stands for a value */
  settings?:
    | {
        [k: string]: Setting;
      }
    | undefined;
  /** Where the API is, how to sign in, and what holds for all its requests */
  api: {
    /** The base address; a URI template (RFC 6570) over the settings */
    url: string;
    /** How an account signs in. Default: "none" */
    sign_in?:
      | (
          | "none"
          | (
              | Basic
              | Bearer
              | Key
              | ClientCredentials
              | AuthorizationCode
              | DeviceCode
              | JwtBearer
              | RefreshToken
              | Password
              | Session
            )
          | (
              | Basic
              | Bearer
              | Key
              | ClientCredentials
              | AuthorizationCode
              | DeviceCode
              | JwtBearer
              | RefreshToken
              | Password
              | Session
            )[]
        )
      | undefined;
    /** Other addresses of the API that credentials may go to as well; URI templates */
    origins?: string[] | undefined;
    /** A cheap request that any signed-in account may make */
    probe?:
      | {
          /** Path below api.url; a URI template (RFC 6570) */
          get: string;
        }
      | undefined;
    /** A request whose response tells what the API has */
    survey?:
      | {
          /** Path below api.url; a URI template (RFC 6570) */
          get: string;
          /** Where names are; left out, the response is an OpenAPI document */
          names?: string | undefined;
          /** How one of them is described */
          fields?:
            | {
                /** The request for one of them; {name} stands for its name */
                get: string;
                /** Where the names of its fields are */
                names: string;
              }
            | undefined;
        }
      | undefined;
    /** What the API allows, as its documentation publishes it */
    rate_limit?: RateLimit | undefined;
    /** Sent with every request */
    headers?:
      | {
          [k: string]: string;
        }
      | undefined;
    /** What responses mean, for all streams; a stream's own rules go first */
    rules?: Rule[] | undefined;
  };
  /** An OData service: what it holds is found from its metadata */
  odata?: OData | undefined;
  /** What can be carried, by name */
  streams?:
    | {
        [k: string]: Stream;
      }
    | undefined;
}
/** A value that every account fills in */
export interface Setting {
  /** JSON Schema type of the value */
  type: "string" | "number" | "boolean";
  /** uri: a whole http(s) address; host: a host name or a part of one, without scheme */
  format?: ("uri" | "host") | undefined;
  /** Names that an account may give, and the values they stand for: production, sandbox, regions */
  choices?:
    | {
        [k: string]: string | number | boolean;
      }
    | undefined;
  /** An account may leave it out */
  optional?: boolean | undefined;
  /** Never shown; an account gives it as $NAME only */
  secret?: boolean | undefined;
  /** Used when an account leaves it out */
  default?: (string | number | boolean) | undefined;
  /** A name for people */
  title?: string | undefined;
  /** What it is, and where an account finds it */
  description?: string | undefined;
}
/** HTTP Basic, RFC 7617 */
export interface Basic {
  /** User and password */
  basic: {
    /** A text in which {name} stands for a value. Default: "{user}" */
    user?: string | undefined;
    /** A text in which {name} stands for a value. Default: "{password}" */
    password?: string | undefined;
  };
}
/** A fixed bearer token */
export interface Bearer {
  /** The token, such as {token} */
  bearer: string;
}
/** A fixed key in header, query or cookie */
export interface Key {
  /** The key, such as {api_key} */
  key: string;
  /** Where it is sent. Default: "header" */
  in?: ("header" | "query" | "cookie") | undefined;
  /** Name of the header, query parameter or cookie */
  name: string;
  /** Put before the key. Default: "" */
  prefix?: string | undefined;
}
/** OAuth 2.0 client credentials, RFC 6749, section 4.4 */
export interface ClientCredentials {
  /** The grant */
  oauth2: "client_credentials";
  /** The token endpoint; or give issuer */
  token_url?: string | undefined;
  /** Endpoints are found from here: RFC 8414, or OpenID discovery */
  issuer?: string | undefined;
  /** A text in which {name} stands for a value. Default: "{client_id}" */
  client_id?: string | undefined;
  /** Default {client_secret}, where the connector has that setting */
  client_secret?: string | undefined;
  /**
   * How the client shows who it is: HTTP Basic, form body (RFC 6749, 2.3.1), or a JWT signed by key or secret (RFC 7523). Default: "header"
   */
  client_auth?: ("header" | "body" | "private_key_jwt" | "client_secret_jwt") | undefined;
  /** For private_key_jwt: the key, PKCS #8 in PEM */
  private_key?: string | undefined;
  /** A text in which {name} stands for a value */
  key_id?: string | undefined;
  /**
   * How a JWT is signed; HS… by the client's secret (client_secret_jwt, default HS256). Default: "RS256"
   */
  algorithm?: ("RS256" | "PS256" | "ES256" | "EdDSA" | "HS256" | "HS384" | "HS512") | undefined;
  /** Scopes to ask for, separated by spaces */
  scope?: string | undefined;
  /** More parameters, such as an audience */
  extra?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
}
/** OAuth 2.0 authorization code with PKCE (RFC 7636); a person signs in once by `login` */
export interface AuthorizationCode {
  /** The grant */
  oauth2: "authorization_code";
  /** The token endpoint; or give issuer */
  token_url?: string | undefined;
  /** Endpoints are found from here: RFC 8414, or OpenID discovery */
  issuer?: string | undefined;
  /** A text in which {name} stands for a value. Default: "{client_id}" */
  client_id?: string | undefined;
  /** Default {client_secret}, where the connector has that setting */
  client_secret?: string | undefined;
  /**
   * How the client shows who it is: HTTP Basic, form body (RFC 6749, 2.3.1), or a JWT signed by key or secret (RFC 7523). Default: "header"
   */
  client_auth?: ("header" | "body" | "private_key_jwt" | "client_secret_jwt") | undefined;
  /** For private_key_jwt: the key, PKCS #8 in PEM */
  private_key?: string | undefined;
  /** A text in which {name} stands for a value */
  key_id?: string | undefined;
  /**
   * How a JWT is signed; HS… by the client's secret (client_secret_jwt, default HS256). Default: "RS256"
   */
  algorithm?: ("RS256" | "PS256" | "ES256" | "EdDSA" | "HS256" | "HS384" | "HS512") | undefined;
  /** Scopes to ask for, separated by spaces */
  scope?: string | undefined;
  /** More parameters, such as an audience */
  extra?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
  /** The authorization endpoint; or give issuer */
  authorize_url?: string | undefined;
  /** Port on 127.0.0.1 for the way back; 0 takes a free one. Default: 0 */
  redirect_port?: number | undefined;
  /** Path of the way back. Default: "/callback" */
  redirect_path?: string | undefined;
}
/** OAuth 2.0 device grant (RFC 8628); a person signs in once by `login` */
export interface DeviceCode {
  /** The grant */
  oauth2: "device_code";
  /** The token endpoint; or give issuer */
  token_url?: string | undefined;
  /** Endpoints are found from here: RFC 8414, or OpenID discovery */
  issuer?: string | undefined;
  /** A text in which {name} stands for a value. Default: "{client_id}" */
  client_id?: string | undefined;
  /** Default {client_secret}, where the connector has that setting */
  client_secret?: string | undefined;
  /**
   * How the client shows who it is: HTTP Basic, form body (RFC 6749, 2.3.1), or a JWT signed by key or secret (RFC 7523). Default: "header"
   */
  client_auth?: ("header" | "body" | "private_key_jwt" | "client_secret_jwt") | undefined;
  /** For private_key_jwt: the key, PKCS #8 in PEM */
  private_key?: string | undefined;
  /** A text in which {name} stands for a value */
  key_id?: string | undefined;
  /**
   * How a JWT is signed; HS… by the client's secret (client_secret_jwt, default HS256). Default: "RS256"
   */
  algorithm?: ("RS256" | "PS256" | "ES256" | "EdDSA" | "HS256" | "HS384" | "HS512") | undefined;
  /** Scopes to ask for, separated by spaces */
  scope?: string | undefined;
  /** More parameters, such as an audience */
  extra?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
  /** The device authorization endpoint; or give issuer */
  device_url?: string | undefined;
}
/** OAuth 2.0 JWT bearer grant of a service account, RFC 7523 */
export interface JwtBearer {
  /** The grant */
  oauth2: "jwt_bearer";
  /** An address; a URI template (RFC 6570) over the settings */
  token_url: string;
  /** Path of the service account's JSON key file, from the project's folder */
  key_file: string;
  /** Where the key file holds its parts */
  fields?:
    | {
        /** A JSONPath, RFC 9535. Default: "$.issuer" */
        issuer?: string | undefined;
        /** A JSONPath, RFC 9535. Default: "$.private_key" */
        private_key?: string | undefined;
        /** A JSONPath, RFC 9535. Default: "$.key_id" */
        key_id?: string | undefined;
      }
    | undefined;
  /** Who is acted for; left out, the service account itself */
  subject?: string | undefined;
  /** Default: token_url */
  audience?: string | undefined;
  /**
   * How a JWT is signed; HS… by the client's secret (client_secret_jwt, default HS256). Default: "RS256"
   */
  algorithm?: ("RS256" | "PS256" | "ES256" | "EdDSA" | "HS256" | "HS384" | "HS512") | undefined;
  /** Scopes to ask for, separated by spaces */
  scope?: string | undefined;
  /** More parameters, such as an audience */
  extra?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
}
/** A refresh token supplied by hand, RFC 6749, section 6; rotated ones are kept */
export interface RefreshToken {
  /** The grant */
  oauth2: "refresh_token";
  /** The token endpoint; or give issuer */
  token_url?: string | undefined;
  /** Endpoints are found from here: RFC 8414, or OpenID discovery */
  issuer?: string | undefined;
  /** A text in which {name} stands for a value. Default: "{client_id}" */
  client_id?: string | undefined;
  /** Default {client_secret}, where the connector has that setting */
  client_secret?: string | undefined;
  /**
   * How the client shows who it is: HTTP Basic, form body (RFC 6749, 2.3.1), or a JWT signed by key or secret (RFC 7523). Default: "header"
   */
  client_auth?: ("header" | "body" | "private_key_jwt" | "client_secret_jwt") | undefined;
  /** For private_key_jwt: the key, PKCS #8 in PEM */
  private_key?: string | undefined;
  /** A text in which {name} stands for a value */
  key_id?: string | undefined;
  /**
   * How a JWT is signed; HS… by the client's secret (client_secret_jwt, default HS256). Default: "RS256"
   */
  algorithm?: ("RS256" | "PS256" | "ES256" | "EdDSA" | "HS256" | "HS384" | "HS512") | undefined;
  /** Scopes to ask for, separated by spaces */
  scope?: string | undefined;
  /** More parameters, such as an audience */
  extra?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
  /** A text in which {name} stands for a value. Default: "{refresh_token}" */
  refresh_token?: string | undefined;
}
/** Legacy: OAuth 2.0 password grant, RFC 6749, section 4.3. Use another one where the API has it */
export interface Password {
  /** The grant */
  oauth2: "password";
  /** The token endpoint; or give issuer */
  token_url?: string | undefined;
  /** Endpoints are found from here: RFC 8414, or OpenID discovery */
  issuer?: string | undefined;
  /** A text in which {name} stands for a value. Default: "{client_id}" */
  client_id?: string | undefined;
  /** Default {client_secret}, where the connector has that setting */
  client_secret?: string | undefined;
  /**
   * How the client shows who it is: HTTP Basic, form body (RFC 6749, 2.3.1), or a JWT signed by key or secret (RFC 7523). Default: "header"
   */
  client_auth?: ("header" | "body" | "private_key_jwt" | "client_secret_jwt") | undefined;
  /** For private_key_jwt: the key, PKCS #8 in PEM */
  private_key?: string | undefined;
  /** A text in which {name} stands for a value */
  key_id?: string | undefined;
  /**
   * How a JWT is signed; HS… by the client's secret (client_secret_jwt, default HS256). Default: "RS256"
   */
  algorithm?: ("RS256" | "PS256" | "ES256" | "EdDSA" | "HS256" | "HS384" | "HS512") | undefined;
  /** Scopes to ask for, separated by spaces */
  scope?: string | undefined;
  /** More parameters, such as an audience */
  extra?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
  /** A text in which {name} stands for a value. Default: "{user}" */
  user?: string | undefined;
  /** A text in which {name} stands for a value. Default: "{password}" */
  password?: string | undefined;
  /** A secret that is put behind the password, as some old systems want it */
  suffix?: string | undefined;
}
/** A described request gives a token or cookie */
export interface Session {
  /** The request, and where its token is */
  session: {
    /** Address of the sign-in request; a path is below api.url */
    post: string;
    /** Headers of the sign-in request */
    headers?:
      | {
          /** A text in which {name} stands for a value */
          [k: string]: string;
        }
      | undefined;
    /** Body as JSON */
    json?:
      | {
          /** A text in which {name} stands for a value */
          [k: string]: string;
        }
      | undefined;
    /** Body as a form */
    form?:
      | {
          /** A text in which {name} stands for a value */
          [k: string]: string;
        }
      | undefined;
    /** Body as XML text; values are escaped */
    xml?: string | undefined;
    /** Where the token is in the response; XML is read into the same tree */
    token?: string | undefined;
    /** The response's cookie that is the token */
    cookie?: string | undefined;
    /** Default: a cookie goes back as it came, a token as Authorization: Bearer */
    send?: Sent | undefined;
    /** How long a session lasts; left out, until a 401 */
    lifetime?: string | undefined;
    /** Address that a POST ends the session at */
    sign_out?: string | undefined;
  };
}
/** Where the session's token is sent afterwards */
export interface Sent {
  /** Where it is sent. Default: "header" */
  in?: ("header" | "query" | "cookie") | undefined;
  /** Name of the header, query parameter or cookie */
  name: string;
  /** Put before the token. Default: "" */
  prefix?: string | undefined;
}
/** What the API allows, as its documentation publishes it */
export interface RateLimit {
  /** Requests per second, at most */
  per_second?: number | undefined;
  /** Requests per minute, at most */
  per_minute?: number | undefined;
  /** Requests per hour, at most */
  per_hour?: number | undefined;
  /** Requests in 24 hours, at most; spent, a run ends at a checkpoint */
  per_day?: number | undefined;
  /** Requests under way at the same time, at most. Default: 4 */
  concurrency?: number | undefined;
  /**
   * The longest wait for the API's limits; what takes longer ends the run at a checkpoint. Default: "PT15M"
   */
  max_wait?: string | undefined;
  /** Narrower limits for some addresses; streams name their group */
  groups?:
    | {
        [k: string]: {
          /** Requests per second, at most */
          per_second?: number | undefined;
          /** Requests per minute, at most */
          per_minute?: number | undefined;
          /** Requests per hour, at most */
          per_hour?: number | undefined;
          /** Requests in 24 hours, at most; spent, a run ends at a checkpoint */
          per_day?: number | undefined;
          /** Requests under way at the same time, at most */
          concurrency?: number | undefined;
        };
      }
    | undefined;
}
/** What a response means beyond its status */
export interface Rule {
  /** A CEL condition over status, headers and body */
  when: string;
  /** retry: it passes; stop: it fails; skip: nothing is there; halve: the window is too large */
  means: "retry" | "stop" | "skip" | "halve";
  /** Where the API's own words are in the body */
  message?: string | undefined;
}
/** An OData service: what it holds is found from its metadata */
export interface OData {
  /** The version to speak; left out, the one that the service's metadata tells */
  version?: ("2.0" | "3.0" | "4.0" | "4.01") | undefined;
  /** Entity sets to carry beside those of streams, by name or pattern such as Order*; default: all */
  sets?: string[] | undefined;
}
/** A series of records of one kind */
export interface Stream {
  /** A name for people */
  title?: string | undefined;
  /** An entity set of an OData service: fields, types, key and paging come from its metadata */
  set?: string | undefined;
  /** Path below api.url; a URI template (RFC 6570) */
  get?: string | undefined;
  /** Path below api.url; a URI template (RFC 6570) */
  post?: string | undefined;
  /** This POST changes nothing, so it may be sent again. Default: false */
  safe_to_retry?: boolean | undefined;
  /** Query parameters; a list is repeated; what has no value is left out */
  query?:
    | {
        [k: string]: string | number | boolean | (string | number | boolean)[];
      }
    | undefined;
  /** Headers of this request */
  headers?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
  /** What a POST sends */
  body?: Body | undefined;
  /** How the response is written. gzip and zip are undone by themselves. Default: "json" */
  response?: Response | undefined;
  /** What responses mean; the first that holds counts */
  rules?: Rule[] | undefined;
  /** How to get the next page */
  pages?: Pages | undefined;
  /** Asked for in three steps: submit, look until it is done, download */
  report?: Report | undefined;
  /** Values that another request gives first; {name} stands for them */
  lists?:
    | {
        [k: string]: {
          /** Path below api.url; a URI template (RFC 6570) */
          get?: string | undefined;
          /** Path below api.url; a URI template (RFC 6570) */
          post?: string | undefined;
          /** This POST changes nothing, so it may be sent again. Default: false */
          safe_to_retry?: boolean | undefined;
          /** Query parameters; a list is repeated; what has no value is left out */
          query?:
            | {
                [k: string]: string | number | boolean | (string | number | boolean)[];
              }
            | undefined;
          /** Headers of this request */
          headers?:
            | {
                /** A text in which {name} stands for a value */
                [k: string]: string;
              }
            | undefined;
          /** What a POST sends */
          body?: Body | undefined;
          /** How the response is written. gzip and zip are undone by themselves. Default: "json" */
          response?: Response | undefined;
          /** What responses mean; the first that holds counts */
          rules?: Rule[] | undefined;
          /** How to get the next page */
          pages?: Pages | undefined;
          /** Where the values are in the response */
          values: string;
          /** Join them into one text with this between */
          join?: string | undefined;
        };
      }
    | undefined;
  /** Asked once for each value; {name} stands for it. Several names are nested, in their order */
  each?:
    | {
        [k: string]:
          | (string | number | boolean)[]
          | {
              /** A .csv, .json, .jsonl or .txt file, from the project's folder */
              file: string;
              /** Column or field; a .txt file has one value on each line */
              field?: string | undefined;
            }
          | {
              /** Name of the other stream */
              stream: string;
              /** Its records' field */
              field: string;
            }
          | {
              /** How many; they are found once, and hold about as many each */
              ranges: number;
            }
          | ValuesRequest;
      }
    | undefined;
  /** Asked in windows of time; which are done is kept */
  windows?: Windows | undefined;
  /** What figures are broken down by; {dimensions} stands for them */
  dimensions?: Names | undefined;
  /** Figures to ask for; {measures}. More than the API takes are asked for in turn and joined */
  measures?: Names | undefined;
  /** Where the records are in a page; several places are read one after the other. Default: "$[*]" */
  records?: (string | string[]) | undefined;
  /** One more request for each record; with a cursor, for changed records only */
  expand?: Expand | undefined;
  /** Records for which this CEL condition over record does not hold are left out */
  where?: string | undefined;
  /** Asks for all keys at times: what stands and is not among them is gone */
  sweep?: Sweep | undefined;
  /** Records for which this CEL condition over record holds tell that one is gone: it is removed */
  gone?: string | undefined;
  /** Fields put into every record: constants, or {name} of settings and parts */
  add?:
    | {
        [k: string]: string | number | boolean;
      }
    | undefined;
  /** Fields put into every record, each the value of a CEL expression over record */
  compute?:
    | {
        /** An expression in CEL, the Common Expression Language */
        [k: string]: string;
      }
    | undefined;
  /** How the API is asked for changes only */
  cursor?: Cursor | undefined;
  /** The field, or fields, that identify a record */
  key?: (string | string[]) | undefined;
  /** Rules by field path */
  columns?:
    | {
        [k: string]: Column;
      }
    | undefined;
  /** Which fields become columns; left out, all of them */
  fields?: Fields | undefined;
  /** How much room tables have */
  room?: Room | undefined;
  /** What this stream's requests count in the account's limits */
  rate_limit?:
    | {
        /** One of api.rate_limit.groups */
        group?: string | undefined;
        /** What one request counts in the limits. Default: 1 */
        cost?: number | undefined;
      }
    | undefined;
}
/** CSV, RFC 4180 */
export interface Csv {
  /** Between two fields. Default: "," */
  delimiter?: string | undefined;
  /** Around fields; null: quotes mean nothing. Default: "\"" */
  quote?: (string | null) | undefined;
  /**
   * true: the first line names the columns; a list: these are the names, and the first line is data. Default: true
   */
  header?: (true | string[]) | undefined;
  /** As the WHATWG Encoding standard names it. Default: "utf-8" */
  encoding?: string | undefined;
  /**
   * Every line ends with a line break, the last one too: a body that does not broke off. Default: false
   */
  final_line_break?: boolean | undefined;
  /** Lines before the header. Default: 0 */
  skip_lines?: number | undefined;
}
/** How to get the next page */
export interface Pages {
  /** Where the next page's token is; the last page has none */
  token?: Place | undefined;
  /** Where the next page's address is; header: Link, RFC 8288 */
  link?: ("header" | Place) | undefined;
  /** Pages have numbers: that of the first */
  number?: number | undefined;
  /** Pages begin at an offset: that of the first */
  offset?: number | undefined;
  /** Pages begin after the last record's field (keyset) */
  after?: string | undefined;
  /** Pages of an entity set begin after the last entity's key, by a filter; size.query is $top */
  keyset?: true | undefined;
  /** Parameter that takes token, number, offset or key; or write {token} … elsewhere */
  query?: string | undefined;
  /** How many records a page is to hold */
  size?:
    | {
        /** Parameter that takes the size; or write {size} elsewhere */
        query?: string | undefined;
        /** Records per page */
        records: number;
        /** Tried in turn where the API refuses the size */
        smaller?: number[] | undefined;
      }
    | undefined;
  /** A flag that is true while there are more pages */
  more?: Place | undefined;
  /** A flag that is true on the last page */
  last?: Place | undefined;
  /** How many records there are in all */
  total?: Place | undefined;
  /** How many pages there are in all */
  total_pages?: Place | undefined;
  /** Without a word from the API: an empty page ends, or one that is not full. Default: "empty" */
  end?: ("empty" | "short") | undefined;
  /** repeats: past its end the API gives its last page again. Default: "empty" */
  after_last_page?: ("empty" | "repeats") | undefined;
  /** Records asked for again with each offset, against records that move meanwhile */
  overlap?: number | undefined;
  /** Pages that the API gives at most, however many there are */
  max_pages?: number | undefined;
}
/** Asked for in three steps: submit, look until it is done, download */
export interface Report {
  /** Asks for the report */
  submit: {
    /** Path below api.url; a URI template (RFC 6570) */
    get?: string | undefined;
    /** Path below api.url; a URI template (RFC 6570) */
    post?: string | undefined;
    /** This POST changes nothing, so it may be sent again. Default: false */
    safe_to_retry?: boolean | undefined;
    /** Query parameters; a list is repeated; what has no value is left out */
    query?:
      | {
          [k: string]: string | number | boolean | (string | number | boolean)[];
        }
      | undefined;
    /** Headers of this request */
    headers?:
      | {
          /** A text in which {name} stands for a value */
          [k: string]: string;
        }
      | undefined;
    /** What a POST sends */
    body?: Body | undefined;
    /** How the response is written. gzip and zip are undone by themselves. Default: "json" */
    response?: Response | undefined;
    /** What responses mean; the first that holds counts */
    rules?: Rule[] | undefined;
    /** Where the report's id is; {report_id} stands for it */
    id: string;
  };
  /** Looks whether it is done */
  poll: {
    /** Path below api.url; a URI template (RFC 6570) */
    get?: string | undefined;
    /** Path below api.url; a URI template (RFC 6570) */
    post?: string | undefined;
    /** This POST changes nothing, so it may be sent again. Default: false */
    safe_to_retry?: boolean | undefined;
    /** Query parameters; a list is repeated; what has no value is left out */
    query?:
      | {
          [k: string]: string | number | boolean | (string | number | boolean)[];
        }
      | undefined;
    /** Headers of this request */
    headers?:
      | {
          /** A text in which {name} stands for a value */
          [k: string]: string;
        }
      | undefined;
    /** What a POST sends */
    body?: Body | undefined;
    /** How the response is written. gzip and zip are undone by themselves. Default: "json" */
    response?: Response | undefined;
    /** What responses mean; the first that holds counts */
    rules?: Rule[] | undefined;
    /** Where the report's state is */
    state: string;
    /** States in which it can be fetched */
    done: (string | number | boolean)[];
    /** States in which it never will */
    failed?: (string | number | boolean)[] | undefined;
    /** Before the first look; it grows by half each time. Default: "PT1S" */
    wait?: string | undefined;
    /** Between two looks, at most. Default: "PT1M" */
    longest?: string | undefined;
    /** After this, it is asked for anew next time. Default: "PT2H" */
    give_up?: string | undefined;
    /** Where the address of the finished report is */
    link?: string | undefined;
  };
  /** Fetches the finished report */
  download: {
    /** Path below api.url; a URI template (RFC 6570) */
    get?: string | undefined;
    /** Get it from poll.link, without credentials where that is another origin */
    link?: true | undefined;
  };
  /** Reports under way at the same time, at most. Default: 1 */
  concurrency?: number | undefined;
  /** States after which it is submitted anew: expired, say */
  resubmit_states?: (string | number | boolean)[] | undefined;
}
/** A request that gives values */
export interface ValuesRequest {
  /** Path below api.url; a URI template (RFC 6570) */
  get?: string | undefined;
  /** Path below api.url; a URI template (RFC 6570) */
  post?: string | undefined;
  /** This POST changes nothing, so it may be sent again. Default: false */
  safe_to_retry?: boolean | undefined;
  /** Query parameters; a list is repeated; what has no value is left out */
  query?:
    | {
        [k: string]: string | number | boolean | (string | number | boolean)[];
      }
    | undefined;
  /** Headers of this request */
  headers?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
  /** What a POST sends */
  body?: Body | undefined;
  /** How the response is written. gzip and zip are undone by themselves. Default: "json" */
  response?: Response | undefined;
  /** What responses mean; the first that holds counts */
  rules?: Rule[] | undefined;
  /** How to get the next page */
  pages?: Pages | undefined;
  /** Where the values are in the response */
  values: string;
}
/** Asked in windows of time; which are done is kept */
export interface Windows {
  /** Length of a window, such as P7D or P1M */
  span: string;
  /** Parameter that takes the window's start; or write {from} elsewhere */
  from?: string | undefined;
  /** Parameter that takes the window's end; or write {to} elsewhere */
  to?: string | undefined;
  /**
   * inclusive: the API gives records at `to` as well, so the last moment before the end is sent. Default: "exclusive"
   */
  to_is?: ("exclusive" | "inclusive") | undefined;
  /** Where the first window begins: a time, or a duration before now such as -P1Y */
  start: string;
  /** Where the last window ends: a time or a duration from now; default: now */
  end?: string | undefined;
  /** In which order windows are asked for. Default: "oldest_first" */
  order?: ("oldest_first" | "newest_first") | undefined;
  /** Asked for again before what is done, for records that come late. Default: "PT0S" */
  overlap?: string | undefined;
  /** Time zone in which windows of days and months begin. Default: "UTC" */
  zone?: string | undefined;
  /** How a time is sent: RFC 3339, its date, or the time since 1970. Default: "date_time" */
  format?: ("date_time" | "date" | "seconds" | "milliseconds") | undefined;
  /** A window is not halved below this. Default: "PT1M" */
  smallest?: string | undefined;
  /** The API gives this many records at most, and silently leaves out the rest */
  max_records?: number | undefined;
}
/** Names to ask for */
export interface Names {
  /** As the API calls them */
  names: string[];
  /** How many the API takes in one request */
  max_per_request?: number | undefined;
}
/** One more request for each record; with a cursor, for changed records only */
export interface Expand {
  /** Path below api.url; a URI template (RFC 6570) */
  get?: string | undefined;
  /** Path below api.url; a URI template (RFC 6570) */
  post?: string | undefined;
  /** This POST changes nothing, so it may be sent again. Default: false */
  safe_to_retry?: boolean | undefined;
  /** Query parameters; a list is repeated; what has no value is left out */
  query?:
    | {
        [k: string]: string | number | boolean | (string | number | boolean)[];
      }
    | undefined;
  /** Headers of this request */
  headers?:
    | {
        /** A text in which {name} stands for a value */
        [k: string]: string;
      }
    | undefined;
  /** What a POST sends */
  body?: Body | undefined;
  /** How the response is written. gzip and zip are undone by themselves. Default: "json" */
  response?: Response | undefined;
  /** What responses mean; the first that holds counts */
  rules?: Rule[] | undefined;
  /** The record's field that holds the address to ask, within the API's own origins */
  link?: string | undefined;
  /** Values for the request's {name}, from the record's fields */
  fields?:
    | {
        [k: string]: string;
      }
    | undefined;
  /** Where what is wanted is in the response. Default: "$" */
  record?: string | undefined;
  /** Put it there; left out, its fields join the record's own */
  at?: string | undefined;
  /** For entity sets: as many of these requests go in one, by the service's $batch */
  batch?: number | undefined;
}
/** Asks for all keys at times: what stands and is not among them is gone */
export interface Sweep {
  /** How long after a sweep the next run sweeps again: P1D, PT6H */
  every: string;
  /**
   * What may be gone at once, of the records that stand; where it is more, nothing is deleted. Default: 0.2
   */
  share?: number | undefined;
  /** Only as far back by the cursor's field, P30D: what is older is neither asked for nor deleted */
  reach?: string | undefined;
  /**
   * The field with the value of each: a part that does not come whole keeps its records, the others go on
   */
  part?: string | undefined;
  /** Another request for the keys; left out, the stream's own, without its cursor */
  get?: string | undefined;
  /** Path below api.url; a URI template (RFC 6570) */
  post?: string | undefined;
  /** Query parameters, beside those of the stream's own request or of this one */
  query?:
    | {
        [k: string]: string | number | boolean | (string | number | boolean)[];
      }
    | undefined;
  /** What a POST sends */
  body?: Body | undefined;
  /** Where the records are */
  records?: (string | string[]) | undefined;
  /** How to get the next page */
  pages?: Pages | undefined;
}
/** How the API is asked for changes only */
export interface Cursor {
  /** The record's field that grows with every change */
  field?: string | undefined;
  /**
   * Where the last page gives a token or address for the next run's changes; true: where OData has it
   */
  delta?: (string | true) | undefined;
  /** Asks for what has changed since the last whole run began */
  last_run?: true | undefined;
  /** The query parameter that asks for records after a value; or write {since} elsewhere */
  query?: string | undefined;
  /** Where the first run begins: a value, sent as it stands, or a duration before now such as -P90D */
  start?: (string | number) | undefined;
  /** Asked for again before the cursor: a duration (default PT1S), or a number for numeric fields */
  overlap?: (string | number) | undefined;
  /**
   * ascending: a broken-off run goes on by value; descending: reading stops where what is known begins. Default: "any"
   */
  order?: ("ascending" | "descending" | "any") | undefined;
  /**
   * inclusive: the API gives records at the value as well, so none need be asked for again. Default: "exclusive"
   */
  bounds?: ("inclusive" | "exclusive") | undefined;
  /** How a time is sent: RFC 3339, its date, or the time since 1970. Default: "date_time" */
  format?: ("date_time" | "date" | "seconds" | "milliseconds") | undefined;
}
/** How a field becomes a column */
export interface Column {
  /**
   * One of boolean, int64, float64, text, date, timestamp, local_timestamp, uuid, bytes, json, decimal(12,2); it wins over what is inferred
   */
  type?: string | undefined;
  /**
   * What it becomes, whatever it comes as: rows of a table of its own, rows by an object's keys, columns, json
   */
  as?: ("table" | "map" | "columns" | "json") | undefined;
  /** How values are written, where not as JSON and RFC 3339 have them */
  form?: Form | undefined;
  /** Another name for the column, or for the table of a list */
  name?: string | undefined;
  /** Store HMAC-SHA-256 under the account's hash_secret, or SHA-256 where it has none */
  hash?: boolean | undefined;
  /** Store *** and so many of the last signs: mask: 4 makes ***1234 */
  mask?: number | undefined;
  /** Make no column of it; its values are in no quarantine, recording or message either */
  drop?: boolean | undefined;
  /** What it holds, in words: the column's comment where the warehouse has such */
  description?: string | undefined;
}
/** How values are written, where not as JSON and RFC 3339 have them */
export interface Form {
  /** Since 1970, or as /Date(milliseconds)/ */
  time?: ("seconds" | "milliseconds" | "/Date/") | undefined;
  /** Of dates and times, by Unicode's letters: dd.MM.yyyy HH:mm */
  pattern?: string | undefined;
  /** IANA time zone of times that have none, such as Europe/Vienna */
  zone?: string | undefined;
  /** The sign before the fraction of a number */
  decimal?: string | undefined;
  /** The sign between groups of three digits */
  thousands?: string | undefined;
  /** Words that mean true, in upper or lower case */
  yes?: string[] | undefined;
  /** Words that mean false */
  no?: string[] | undefined;
}
/** Which fields become columns; left out, all of them */
export interface Fields {
  /** Only these, and the key: paths, * for one step and ** for any: lead_guest.* */
  only?: string[] | undefined;
  /** All but these */
  except?: string[] | undefined;
}
/** How much room tables have */
export interface Room {
  /** Columns of a table, at most; what comes beyond stands in eb_more. Default: 1000 */
  columns?: number | undefined;
  /** Tables of the stream, at most; lists that come beyond stand in json columns. Default: 100 */
  tables?: number | undefined;
}
