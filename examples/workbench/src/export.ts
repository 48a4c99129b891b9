/** What was made, for a project: as YAML or as TypeScript; and lines drafted from an answer. */

import { draftHar, draftText, isHar, parseYaml } from "early-bridge/core";

const RATE = { value: { per_second: 5, concurrency: 2 }, why: "a guess: the API's documentation may tell" };

/** The connector as a TypeScript module. */
export function asTypeScript(yaml: string): string {
  const { value } = parseYaml(yaml, "connector");
  const name = String((value as { connector?: unknown } | null)?.connector ?? "connector");
  const constant = name.replace(/_(\w)/g, (_whole, letter: string) => letter.toUpperCase());
  return `import { defineConnector } from "early-bridge";\n\nexport const ${constant} = defineConnector(${JSON.stringify(value, undefined, 2)});\n`;
}

/** A HAR as it is, or a bare answer as if it had been asked for; undefined where it lists nothing. */
export function drafted(answer: string, address: string): string | undefined {
  let tree: unknown;
  try {
    tree = JSON.parse(answer);
  } catch {
    return undefined;
  }
  const entry = {
    request: { method: "GET", url: address },
    response: { status: 200, content: { text: answer } },
  };
  const har = isHar(tree) ? tree : { log: { entries: [entry] } };
  const draft = draftHar(har, "draft", RATE);
  return draft && draftText(draft);
}

/** The first answer with a list in it, of a HAR; undefined where the text is none. */
export function answerIn(text: string): string | undefined {
  try {
    const tree: unknown = JSON.parse(text);
    if (!isHar(tree)) return undefined;
    type Entry = {
      request?: { method?: string };
      response?: { content?: { text?: string; mimeType?: string } };
    };
    const { entries } = (tree as { log: { entries: readonly Entry[] } }).log;
    const found = entries.find(
      ({ request, response }) => request?.method === "GET" && /json/.test(response?.content?.mimeType ?? ""),
    );
    return found?.response?.content?.text;
  } catch {
    return undefined;
  }
}
