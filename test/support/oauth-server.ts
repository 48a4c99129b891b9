/** A real, certified OAuth server on loopback: its clients, and people who say yes to everything. */

import { createServer } from "node:http";
import { exportJWK, exportPKCS8, generateKeyPair } from "jose";
import Provider from "oidc-provider";
import { listen } from "./serve.js";

export interface OAuthServer {
  readonly issuer: string;
  /** PKCS #8 PEM of the client that signs JWTs */
  readonly privateKey: string;
  /** grants used at the token endpoint, in order */
  readonly grants: string[];
  /** ends what has been granted so far */
  revoke(): void;
}

/** Long enough for every HMAC. */
export const LONG_SECRET = "the-warden-keeps-this-one-under-the-third-stone-behind-the-upper-hut";
export const CLIENT_SECRET = "a-long-secret-of-the-valley-desk";

/** Access tokens live `tokenSeconds`; refresh tokens rotate with each use. */
export async function oauthServer(tokenSeconds = 60): Promise<OAuthServer> {
  const keys = await generateKeyPair("RS256", { extractable: true });
  const publicKey = { ...(await exportJWK(keys.publicKey)), alg: "RS256", use: "sig", kid: "k1" };
  const grants: string[] = [];
  const secret = { client_secret: CLIENT_SECRET, scope: "openid offline_access huts" };
  // the port is known before the provider is made: its issuer holds it
  const server = createServer();
  const issuer = `http://127.0.0.1:${await listen(server)}`;
  const provider = new Provider(issuer, {
    clients: [
      {
        client_id: "desk",
        ...secret,
        grant_types: ["client_credentials"],
        redirect_uris: [],
        response_types: [],
      },
      {
        client_id: "signer",
        grant_types: ["client_credentials"],
        redirect_uris: [],
        response_types: [],
        token_endpoint_auth_method: "private_key_jwt",
        jwks: { keys: [publicKey] },
        scope: "huts",
      },
      ...(["HS256", "HS512"] as const).map((algorithm) => ({
        client_id: `sealed-${algorithm}`,
        client_secret: LONG_SECRET,
        grant_types: ["client_credentials"],
        redirect_uris: [],
        response_types: [],
        token_endpoint_auth_method: "client_secret_jwt" as const,
        token_endpoint_auth_signing_alg: algorithm,
        scope: "huts",
      })),
      {
        client_id: "native",
        application_type: "native",
        grant_types: ["authorization_code", "refresh_token", "urn:ietf:params:oauth:grant-type:device_code"],
        response_types: ["code"],
        redirect_uris: ["http://127.0.0.1/callback"],
        token_endpoint_auth_method: "none",
        scope: "openid offline_access huts",
      },
    ],
    clientAuthMethods: [
      "client_secret_basic",
      "client_secret_post",
      "client_secret_jwt",
      "private_key_jwt",
      "none",
    ],
    enabledJWA: { clientAuthSigningAlgValues: ["RS256", "HS256", "HS512"] },
    scopes: ["openid", "offline_access", "huts"],
    features: {
      clientCredentials: { enabled: true },
      deviceFlow: { enabled: true },
      devInteractions: { enabled: true },
    },
    ttl: {
      AccessToken: tokenSeconds,
      ClientCredentials: tokenSeconds,
      RefreshToken: 3600,
      Session: 3600,
      Grant: 3600,
      Interaction: 600,
      DeviceCode: 600,
    },
    rotateRefreshToken: true,
    pkce: { required: () => true },
    issueRefreshToken: async () => true,
    findAccount: async (_context, id) => ({ accountId: id, claims: async () => ({ sub: id }) }),
    renderError: async (context, out) => {
      context.body = JSON.stringify(out);
    },
  });
  provider.on("grant.success", (context) => grants.push(String(context.oidc.params?.grant_type)));
  const handle = provider.callback();
  let revoked = false;
  server.on("request", (request, response) => {
    if (revoked && request.url === "/token") {
      response
        .writeHead(400, { "content-type": "application/json" })
        .end('{"error":"invalid_grant","error_description":"grant request is invalid"}');
      return;
    }
    void handle(request, response);
  });
  return {
    issuer,
    privateKey: await exportPKCS8(keys.privateKey),
    grants,
    revoke: () => {
      revoked = true;
    },
  };
}
