/** How a connector says that an API is signed in to: one schema for each scheme. */

import * as z from "zod";
import { all, exactlyOne, noTwo } from "./schema-facets.js";
import { duration, filled, jsonPathText, urlTemplate } from "./text-schemas.js";

const basic = z
  .strictObject({
    basic: z
      .strictObject({ user: filled.default("{user}"), password: filled.default("{password}") })
      .describe("User and password"),
  })
  .describe("HTTP Basic, RFC 7617")
  .meta({ id: "Basic" });

const bearer = z
  .strictObject({ bearer: filled.describe("The token, such as {token}") })
  .describe("A fixed bearer token")
  .meta({ id: "Bearer" });

const place = z.enum(["header", "query", "cookie"]).default("header").describe("Where it is sent");

const key = z
  .strictObject({
    key: filled.describe("The key, such as {api_key}"),
    in: place,
    name: z.string().min(1).describe("Name of the header, query parameter or cookie"),
    prefix: z.string().default("").describe("Put before the key"),
  })
  .describe("A fixed key in header, query or cookie")
  .meta({ id: "Key" });

const client = {
  token_url: urlTemplate.optional().describe("The token endpoint; or give issuer"),
  issuer: urlTemplate.optional().describe("Endpoints are found from here: RFC 8414, or OpenID discovery"),
  client_id: filled.default("{client_id}"),
  client_secret: filled.optional().describe("Default {client_secret}, where the connector has that setting"),
  client_auth: z
    .enum(["header", "body", "private_key_jwt", "client_secret_jwt"])
    .default("header")
    .describe(
      "How the client shows who it is: HTTP Basic, form body (RFC 6749, 2.3.1), or a JWT signed by key or secret (RFC 7523)",
    ),
  private_key: filled.optional().describe("For private_key_jwt: the key, PKCS #8 in PEM"),
  key_id: filled.optional(),
  algorithm: z
    .enum(["RS256", "PS256", "ES256", "EdDSA", "HS256", "HS384", "HS512"])
    .default("RS256")
    .describe("How a JWT is signed; HS… by the client's secret (client_secret_jwt, default HS256)"),
  scope: z.string().optional().describe("Scopes to ask for, separated by spaces"),
  extra: z.record(z.string(), filled).default({}).describe("More parameters, such as an audience"),
} as const;

const clientCredentials = z
  .strictObject({ oauth2: z.literal("client_credentials").describe("The grant"), ...client })
  .describe("OAuth 2.0 client credentials, RFC 6749, section 4.4")
  .meta({ id: "ClientCredentials" });

const authorizationCode = z
  .strictObject({
    oauth2: z.literal("authorization_code").describe("The grant"),
    ...client,
    authorize_url: urlTemplate.optional().describe("The authorization endpoint; or give issuer"),
    redirect_port: z
      .int()
      .min(0)
      .max(65_535)
      .default(0)
      .describe("Port on 127.0.0.1 for the way back; 0 takes a free one"),
    redirect_path: z.string().startsWith("/").default("/callback").describe("Path of the way back"),
  })
  .describe("OAuth 2.0 authorization code with PKCE (RFC 7636); a person signs in once by `login`")
  .meta({ id: "AuthorizationCode" });

const deviceCode = z
  .strictObject({
    oauth2: z.literal("device_code").describe("The grant"),
    ...client,
    device_url: urlTemplate.optional().describe("The device authorization endpoint; or give issuer"),
  })
  .describe("OAuth 2.0 device grant (RFC 8628); a person signs in once by `login`")
  .meta({ id: "DeviceCode" });

const jwtBearer = z
  .strictObject({
    oauth2: z.literal("jwt_bearer").describe("The grant"),
    token_url: urlTemplate,
    key_file: filled.describe("Path of the service account's JSON key file, from the project's folder"),
    fields: z
      .strictObject({
        issuer: jsonPathText.default("$.issuer"),
        private_key: jsonPathText.default("$.private_key"),
        key_id: jsonPathText.default("$.key_id"),
      })
      .prefault({})
      .describe("Where the key file holds its parts"),
    subject: filled.optional().describe("Who is acted for; left out, the service account itself"),
    audience: urlTemplate.optional().describe("Default: token_url"),
    algorithm: client.algorithm,
    scope: client.scope,
    extra: client.extra,
  })
  .describe("OAuth 2.0 JWT bearer grant of a service account, RFC 7523")
  .meta({ id: "JwtBearer" });

const refreshToken = z
  .strictObject({
    oauth2: z.literal("refresh_token").describe("The grant"),
    ...client,
    refresh_token: filled.default("{refresh_token}"),
  })
  .describe("A refresh token supplied by hand, RFC 6749, section 6; rotated ones are kept")
  .meta({ id: "RefreshToken" });

const password = z
  .strictObject({
    oauth2: z.literal("password").describe("The grant"),
    ...client,
    user: filled.default("{user}"),
    password: filled.default("{password}"),
    suffix: filled
      .optional()
      .describe("A secret that is put behind the password, as some old systems want it"),
  })
  .describe("Legacy: OAuth 2.0 password grant, RFC 6749, section 4.3. Use another one where the API has it")
  .meta({ id: "Password" });

const sent = z
  .strictObject({
    in: place,
    name: z.string().min(1).describe("Name of the header, query parameter or cookie"),
    prefix: z.string().default("").describe("Put before the token"),
  })
  .describe("Where the session's token is sent afterwards")
  .meta({ id: "Sent" });

const session = z
  .strictObject({
    session: z
      .strictObject({
        post: urlTemplate.describe("Address of the sign-in request; a path is below api.url"),
        headers: z.record(z.string(), filled).default({}).describe("Headers of the sign-in request"),
        json: z.record(z.string(), filled).optional().describe("Body as JSON"),
        form: z.record(z.string(), filled).optional().describe("Body as a form"),
        xml: filled.optional().describe("Body as XML text; values are escaped"),
        token: jsonPathText
          .optional()
          .describe("Where the token is in the response; XML is read into the same tree"),
        cookie: z.string().optional().describe("The response's cookie that is the token"),
        send: sent
          .optional()
          .describe("Default: a cookie goes back as it came, a token as Authorization: Bearer"),
        lifetime: duration.optional().describe("How long a session lasts; left out, until a 401"),
        sign_out: urlTemplate.optional().describe("Address that a POST ends the session at"),
      })
      .refine(
        (each) => (each.token === undefined) !== (each.cookie === undefined),
        "must have token or cookie, one of them",
      )
      .refine(
        (each) => [each.json, each.form, each.xml].filter((body) => body !== undefined).length <= 1,
        "must have one body at most: json, form or xml",
      )
      .meta(all(exactlyOne("token", "cookie"), noTwo("json", "form", "xml")))
      .describe("The request, and where its token is"),
  })
  .describe("A described request gives a token or cookie")
  .meta({ id: "Session" });

const oneScheme = z.union([
  basic,
  bearer,
  key,
  clientCredentials,
  authorizationCode,
  deviceCode,
  jwtBearer,
  refreshToken,
  password,
  session,
]);

export const signInSchema = z
  .union([z.literal("none"), oneScheme, z.array(oneScheme).min(1).describe("Several at once")])
  .default("none")
  .describe("How an account signs in");

export type SignIn = z.output<typeof signInSchema>;
export type SignInScheme = z.output<typeof oneScheme>;
export type OAuthScheme = Extract<SignInScheme, { oauth2: string }>;
export type ClientScheme = Exclude<OAuthScheme, { oauth2: "jwt_bearer" }>;
export type JwtBearerScheme = Extract<OAuthScheme, { oauth2: "jwt_bearer" }>;
export type LoginScheme = Extract<OAuthScheme, { oauth2: "authorization_code" | "device_code" }>;
export type SessionScheme = Extract<SignInScheme, { session: object }>["session"];

/** How a scheme is called in tables and checklists. */
export function schemeName(scheme: SignInScheme): string {
  return "oauth2" in scheme ? scheme.oauth2 : Object.keys(scheme)[0]!;
}

/** The schemes of a connector, one by one. */
export function schemesOf(signIn: SignIn): readonly SignInScheme[] {
  if (signIn === "none") return [];
  return Array.isArray(signIn) ? signIn : [signIn];
}
