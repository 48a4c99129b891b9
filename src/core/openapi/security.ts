/** How an OpenAPI document says that one signs in, as a connector says it. */

import type { Guess } from "../draft/seen.js";
import { type Json, type OpenApiDocument, textOf } from "./document.js";

/** The value of `sign_in:` in YAML; its names are settings. */
export type OpenApiSignIn = Guess<string>;

const NONE: OpenApiSignIn = { value: "none", why: "the document asks for none" };

/** The first scheme that is asked for everywhere, and that a connector can do (OpenAPI 3.1, section 4.8.27). */
export function signInOf(document: OpenApiDocument): OpenApiSignIn {
  const components = document.object(document.root.components) ?? {};
  const schemes = document.object(components.securitySchemes) ?? {};
  const asked = document.list(document.root.security).flatMap((each) => Object.keys(each));
  const names = [...new Set([...asked, ...Object.keys(schemes)])];
  for (const name of names) {
    const scheme = document.object(schemes[name]);
    const value = scheme && schemeText(document, scheme);
    if (value !== undefined) {
      const others = names.length === 1 ? "" : `; there are ${names.length} ways`;
      return { value, why: `securityScheme ${name}${others}` };
    }
  }
  if (names.length === 0) return NONE;
  return { value: "none", why: `not found out: ${names.join(", ")} is no scheme that is known here` };
}

function schemeText(document: OpenApiDocument, scheme: Json): string | undefined {
  if (scheme.type === "http" && /^basic$/i.test(String(scheme.scheme))) return "{ basic: {} }";
  if (scheme.type === "http" && /^bearer$/i.test(String(scheme.scheme))) return '{ bearer: "{token}" }';
  const name = textOf(scheme.name);
  if (scheme.type === "apiKey" && name !== undefined && /^(header|query|cookie)$/.test(String(scheme.in)))
    return `{ key: "{api_key}", in: ${String(scheme.in)}, name: ${JSON.stringify(name)} }`;
  return scheme.type === "oauth2" ? oauthText(document, scheme) : undefined;
}

/** OpenAPI 3.1, section 4.8.28: the flow in which nobody has to sit by comes first. */
function oauthText(document: OpenApiDocument, scheme: Json): string | undefined {
  const flows = document.object(scheme.flows) ?? {};
  const machine = document.object(flows.clientCredentials);
  const person = document.object(flows.authorizationCode);
  const flow = machine ?? person;
  const token = flow && addressText(flow.tokenUrl);
  if (flow === undefined || token === undefined) return undefined;
  const scopes = Object.keys(document.object(flow.scopes) ?? {});
  const scope =
    scopes.length === 0 || scopes.length > 3 ? "" : `, scope: ${JSON.stringify(scopes.join(" "))}`;
  if (machine !== undefined) return `{ oauth2: client_credentials, token_url: ${token}${scope} }`;
  const authorize = addressText(flow.authorizationUrl);
  if (authorize === undefined) return undefined;
  return `{ oauth2: authorization_code, authorize_url: ${authorize}, token_url: ${token}${scope} }`;
}

/** A whole address, or one below the API's. */
function addressText(value: unknown): string | undefined {
  const text = textOf(value);
  if (text === undefined || /[{}]/.test(text)) return undefined;
  if (/^https?:\/\//.test(text)) return JSON.stringify(text);
  return text.startsWith("/") ? JSON.stringify(`{+base}${text}`) : undefined;
}
