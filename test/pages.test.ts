/** Every page rule against every way in which a list can end, with a reference answer. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { isBridgeError } from "../src/core/errors.js";
import { type CompiledStream, compileStream } from "../src/core/stream/compile-stream.js";
import { describeStream } from "../src/core/stream/describe-stream.js";
import type { AskEvent } from "../src/run/ask/asker.js";
import { failure } from "./support/failure.js";
import { type Answered, type Asked, BASE, fakeApi, recordsOf } from "./support/fake-api.js";

type Pages = NonNullable<NonNullable<ConnectorInput["streams"]>[string]["pages"]>;
type Item = { id: number };

const SIZE = 5;
const items = (count: number): Item[] => Array.from({ length: count }, (_, i) => ({ id: i + 1 }));

/** A page rule, and an API that pages in that way over a list. */
interface Way {
  readonly pages: Pages;
  readonly post?: true;
  answer(asked: Asked, list: readonly Item[]): Answered;
}

const sized = (asked: Asked) => Number(asked.query.get("size") ?? SIZE);
const slice = (list: readonly Item[], from: number, size = SIZE) => list.slice(from, from + size);
/** The place behind the record that a token names; the first page has none. */
const fromToken = (list: readonly Item[], token: string | null | undefined) => {
  const at = token ? list.findIndex(({ id }) => id > Number(token.replace("t", ""))) : 0;
  return at < 0 ? list.length : at;
};
const tokenBehind = (list: readonly Item[], from: number) =>
  from + SIZE < list.length ? `t${list[from + SIZE - 1]!.id}` : null;

const size = { query: "size", records: SIZE };
const WAYS: Record<string, Way> = {
  "a token in the body, sent by query": {
    pages: { token: "$.next", query: "after" },
    answer: ({ query }, list) => {
      const from = fromToken(list, query.get("after"));
      return { body: { items: slice(list, from), next: tokenBehind(list, from) } };
    },
  },
  "a token in a header, sent by header": {
    pages: { token: { header: "X-Next" } },
    answer: ({ headers }, list) => {
      const from = fromToken(list, headers["x-after"]);
      const next = tokenBehind(list, from);
      return { body: { items: slice(list, from) }, headers: next === null ? {} : { "x-next": next } };
    },
  },
  "a token sent in the body": {
    pages: { token: "$.next" },
    post: true,
    answer: ({ body }, list) => {
      const from = fromToken(list, (JSON.parse(body ?? "{}") as { after?: string }).after);
      return { body: { items: slice(list, from), next: tokenBehind(list, from) } };
    },
  },
  ...Object.fromEntries(
    [
      ["absolute", `${BASE}/s`],
      ["with a path only", "/v1/s"],
      ["with a query only", ""],
    ].map(([kind, prefix]) => [
      `an address in the body, ${kind}`,
      {
        pages: { link: "$.links.next" },
        answer: ({ query }: Asked, list: readonly Item[]) => {
          const from = fromToken(list, query.get("at"));
          const next = tokenBehind(list, from);
          return {
            body: { items: slice(list, from), links: next === null ? {} : { next: `${prefix}?at=${next}` } },
          };
        },
      } satisfies Way,
    ]),
  ),
  "a Link header": {
    pages: { link: "header" },
    answer: ({ query }, list) => {
      const from = fromToken(list, query.get("at"));
      const next = tokenBehind(list, from);
      const link = `<${BASE}/s>; rel="first"${next === null ? "" : `, </v1/s?at=${next}>; rel="next"; title="more, please"`}`;
      return { body: { items: slice(list, from) }, headers: { link } };
    },
  },
  "numbers from 1, until an empty page": {
    pages: { number: 1, query: "page", size },
    answer: (asked, list) => ({
      body: { items: slice(list, (Number(asked.query.get("page")) - 1) * sized(asked), sized(asked)) },
    }),
  },
  "numbers from 0, until a short page": {
    pages: { number: 0, query: "page", size, end: "short" },
    answer: (asked, list) => ({
      body: { items: slice(list, Number(asked.query.get("page")) * sized(asked), sized(asked)) },
    }),
  },
  "numbers with a total": {
    pages: { number: 1, query: "page", size, total: "$.total" },
    answer: (asked, list) => ({
      body: {
        items: slice(list, (Number(asked.query.get("page")) - 1) * sized(asked), sized(asked)),
        total: list.length,
      },
    }),
  },
  "numbers with a count of pages in a header": {
    pages: { number: 1, query: "page", size, total_pages: { header: "X-Pages" } },
    answer: (asked, list) => ({
      body: { items: slice(list, (Number(asked.query.get("page")) - 1) * sized(asked), sized(asked)) },
      headers: { "x-pages": String(Math.ceil(list.length / sized(asked))) },
    }),
  },
  "numbers with a flag for more": {
    pages: { number: 1, query: "page", size, more: "$.more" },
    answer: (asked, list) => {
      const from = (Number(asked.query.get("page")) - 1) * sized(asked);
      return { body: { items: slice(list, from), more: from + SIZE < list.length } };
    },
  },
  "numbers with a flag that is always true, and a total": {
    pages: { number: 1, query: "page", size, more: "$.more", total: "$.total" },
    answer: (asked, list) => {
      const from = (Number(asked.query.get("page")) - 1) * SIZE;
      return { body: { items: slice(list, from), more: true, total: list.length } };
    },
  },
  "numbers with a flag for the last": {
    pages: { number: 1, query: "page", size, last: "$.last" },
    answer: (asked, list) => {
      const from = (Number(asked.query.get("page")) - 1) * sized(asked);
      return { body: { items: slice(list, from), last: String(from + SIZE >= list.length) } };
    },
  },
  "numbers whose last page is given again past the end": {
    pages: { number: 1, query: "page", size, after_last_page: "repeats" },
    answer: (asked, list) => {
      const last = Math.max(1, Math.ceil(list.length / SIZE));
      return { body: { items: slice(list, (Math.min(last, Number(asked.query.get("page"))) - 1) * SIZE) } };
    },
  },
  "offsets, until an empty page": {
    pages: { offset: 0, query: "from", size },
    answer: (asked, list) => ({
      body: { items: slice(list, Number(asked.query.get("from")), sized(asked)) },
    }),
  },
  "offsets with a total": {
    pages: { offset: 0, query: "from", size, total: "$.total" },
    answer: (asked, list) => ({
      body: { items: slice(list, Number(asked.query.get("from")), sized(asked)), total: String(list.length) },
    }),
  },
  "offsets from 1 that overlap": {
    pages: { offset: 1, query: "from", size, overlap: 2 },
    answer: (asked, list) => ({
      body: { items: slice(list, Number(asked.query.get("from")) - 1, sized(asked)) },
    }),
  },
  "keys after the last one": {
    pages: { after: "id", query: "after", size },
    answer: (asked, list) => ({
      body: {
        items: list.filter(({ id }) => id > Number(asked.query.get("after") ?? 0)).slice(0, sized(asked)),
      },
    }),
  },
};

const ENDS = {
  "an exact multiple": 3 * SIZE,
  "one short": 3 * SIZE - 1,
  "one over": 3 * SIZE + 1,
  empty: 0,
  single: 1,
  "one full page": SIZE,
};

/** What happens to the list with every request, as long as it is read. */
const SHIFTS = {
  "records come in at the head": (list: readonly Item[], turn: number) => [{ id: -turn }, ...list],
  "records come in at the end": (list: readonly Item[], turn: number) =>
    turn > 30 ? list : [...list, { id: 1000 + turn }],
  "records leave at the head": (list: readonly Item[]) => list.slice(1),
};

const isSaidUnsafe = (stream: CompiledStream) =>
  describeStream(stream).warnings.some((warning) => warning.includes("unsafe"));

/** The stream of a way; what no parameter takes is sent by header or body. */
function streamOf({ pages, post }: Way): NonNullable<ConnectorInput["streams"]>[string] {
  const common = { records: "$.items[*]", key: "id", pages };
  if (post === true)
    return { ...common, post: "/s", safe_to_retry: true, body: { json: { after: "{token}" } } };
  const headers =
    pages.token !== undefined && pages.query === undefined ? { headers: { "X-After": "{token}" } } : {};
  return { ...common, get: "/s", ...headers };
}

/** Ids in the order in which they came, each once. */
function ids(records: readonly unknown[]): number[] {
  return [...new Set(records.map((record) => (record as Item).id))];
}

describe.each(Object.entries(WAYS))("pages by %s", (_name, way) => {
  it.each(Object.entries(ENDS))("read a list of %s whole, in order and once", async (_end, count) => {
    const list = items(count);
    const fake = fakeApi(streamOf(way), (asked) => way.answer(asked, list));
    const records = await recordsOf(fake);
    expect(ids(records)).toEqual(list.map(({ id }) => id));
    if (way.pages.overlap === undefined) expect(records).toHaveLength(count);
    expect(fake.log.length).toBeLessThanOrEqual(Math.ceil(count / (SIZE - (way.pages.overlap ?? 0))) + 2);
  });

  it.each(
    Object.entries(SHIFTS).flatMap(([how, shift]) =>
      Object.entries(ENDS).map(([end, count]) => [end, how, count, shift] as const),
    ),
  )("lose none of %s while %s, or plan says that they may", async (_end, _how, count, shift) => {
    let list: readonly Item[] = items(count);
    const fake = fakeApi(streamOf(way), (asked) => {
      const answer = way.answer(asked, list);
      list = shift(list, asked.turn);
      return answer;
    });
    const records: unknown[] = [];
    const read = async () => {
      for await (const record of fake.api.records("s")) records.push(record);
    };
    const told = await read().catch((error: { code: string }) => error.code);
    const came = new Set(ids(records));
    const lost = list.filter(({ id }) => id > 0 && id <= count && !came.has(id));
    // where the API says how many there are, it is seen that some are missing
    if (way.pages.total === undefined) expect(told).toBeUndefined();
    else expect(told).toBe(lost.length > 0 ? "INCOMPLETE" : undefined);
    const { number, offset, overlap } = way.pages;
    const unsafe = number !== undefined || (offset !== undefined && overlap === undefined);
    const stream = compileStream(fake.connector, "s", fake.connector.streams.s!);
    expect(isSaidUnsafe(stream)).toBe(unsafe);
    if (!unsafe || shift !== SHIFTS["records leave at the head"]) expect(lost).toEqual([]);
  });

  it("go on from any page's position", async () => {
    const list = items(17);
    const open = () => fakeApi(streamOf(way), (asked) => way.answer(asked, list));
    for await (const page of open().api.pages("s")) {
      if (page.next.at === "end" || page.next.at === "within") break;
      // a position is kept as JSON
      const position = JSON.parse(JSON.stringify(page.next)) as typeof page.next;
      const rest = ids(await recordsOf(open(), { position }));
      const from = (page.records.at(-1) as Item).id;
      expect(rest.filter((id) => id > from)).toEqual(list.map(({ id }) => id).filter((id) => id > from));
    }
  });

  it("find an API that goes round in a circle", async () => {
    // whatever is asked for, the first page comes, and says that there is more
    const list = items(20);
    const first = (asked: Asked) =>
      way.answer({ ...asked, query: new URLSearchParams(firstQuery(way)), headers: {}, body: "{}" }, list);
    const fake = fakeApi(streamOf(way), first);
    if (way.pages.after_last_page === "repeats") {
      expect(await recordsOf(fake)).toHaveLength(SIZE);
      return;
    }
    const error = await failure(recordsOf(fake));
    expect(error.code).toBe("PAGE_REPEATED");
    expect(error.hint).not.toBe("");
    // pages that are known to follow may be under way already
    expect(fake.log.length).toBeLessThanOrEqual(6);
  });
});

function firstQuery({ pages }: Way): Record<string, string> {
  const first = pages.number ?? pages.offset;
  return first === undefined ? {} : { [pages.query ?? ""]: String(first), size: String(SIZE) };
}

describe("pages that shift", () => {
  it("past its end an API gives its last page again: it is taken as the end, and told", async () => {
    const way = WAYS["numbers whose last page is given again past the end"]!;
    const list = items(12);
    const notices: string[] = [];
    const fake = fakeApi({ ...streamOf(way), pages: { number: 1, query: "page" } }, (asked) =>
      way.answer(asked, list),
    );
    const records = await recordsOf(fake, {
      onEvent: (event) => event.type === "notice" && notices.push(event.message),
    });
    expect(ids(records)).toHaveLength(12);
    expect(notices).toEqual(["Page 4 repeats the one before it: taken as past the end."]);
  });

  it("a total that changes under way is told, and the part is marked", async () => {
    const way = WAYS["offsets with a total"]!;
    const notices: string[] = [];
    const fake = fakeApi(
      { get: "/s", records: "$.items[*]", key: "id", pages: { offset: 0, query: "from", total: "$.total" } },
      (asked) => way.answer(asked, items(asked.turn > 1 ? 14 : 15)),
    );
    const moved: boolean[] = [];
    const read = async () => {
      const onEvent = (event: AskEvent) => event.type === "notice" && notices.push(event.message);
      for await (const page of fake.api.pages("s", { onEvent })) moved.push(page.moved);
    };
    expect(await failure(read())).toMatchObject({
      code: "INCOMPLETE",
      message: "14 different records came, where the API promises 15.",
    });
    expect(notices).toEqual([expect.stringContaining("changed from 15 to 14")]);
    expect(moved).toEqual([false, true, true]);
  });

  it("offsets with an overlap lose nothing, whatever is inserted and deleted meanwhile", async () => {
    let doubtful = 0;
    await fc.assert(
      fc.asyncProperty(
        fc.integer({ min: 0, max: 40 }),
        fc.integer({ min: 1, max: 3 }),
        fc.array(fc.record({ at: fc.nat(40), remove: fc.nat(7), insert: fc.nat(7) }), { maxLength: 60 }),
        async (count, overlap, changes) => {
          let list = items(count);
          let next = 1000;
          const staying = new Set(list.map(({ id }) => id));
          const fake = fakeApi(
            {
              get: "/s",
              records: "$.items[*]",
              key: "id",
              pages: { offset: 0, query: "from", size, overlap },
            },
            (asked) => {
              const page = slice(list, Number(asked.query.get("from")));
              const change = changes[asked.turn - 1];
              if (change !== undefined) {
                for (const { id } of list.slice(change.at, change.at + change.remove)) staying.delete(id);
                const added = Array.from({ length: change.insert }, () => ({ id: next++ }));
                list = [...list.slice(0, change.at), ...added, ...list.slice(change.at + change.remove)];
              }
              return { body: { items: page } };
            },
          );
          const records = await recordsOf(fake).catch((error: unknown) => {
            if (isBridgeError(error, "INCOMPLETE")) return undefined;
            throw error;
          });
          if (records === undefined) {
            // where most of a short list comes twice, it says so rather than be sure of it
            doubtful++;
            return;
          }
          const read = new Set(ids(records));
          expect([...staying].filter((id) => !read.has(id))).toEqual([]);
        },
      ),
      { numRuns: 300 },
    );
    expect(doubtful).toBeLessThan(15);
  });

  it.each([1, 3, 5, 8])("pages of %i that are shorter than their overlap are read whole", async (most) => {
    const list = items(23);
    const fake = fakeApi(
      { get: "/s", records: "$.items[*]", key: "id", pages: { offset: 0, query: "from", overlap: 8 } },
      ({ query }) => ({ body: { items: slice(list, Number(query.get("from")), most) } }),
    );
    expect(ids(await recordsOf(fake))).toEqual(list.map(({ id }) => id));
  });

  it.each([1, 2, 3])(
    "offsets that overlap by %i read a list that grows at its head all the time",
    async (overlap) => {
      const pages = { offset: 0, query: "from", size, overlap };
      for (let growth = 0; growth <= 2 * SIZE; growth++)
        for (let count = 0; count <= 23; count++) {
          let list: readonly Item[] = items(count);
          const fake = fakeApi({ get: "/s", records: "$.items[*]", key: "id", pages }, ({ query, turn }) => {
            const page = slice(list, Number(query.get("from")));
            const added = Array.from({ length: growth }, (_, i) => ({ id: -growth * turn - i }));
            list = [...added, ...list];
            return { body: { items: page } };
          });
          const outcome = await recordsOf(fake).then(ids, (error: { code: string }) => error.code);
          // where a page's worth and more comes in between two requests, it may be given up, but nothing is passed over
          if (growth >= SIZE && outcome === "PAGE_REPEATED") continue;
          expect(outcome).toEqual(expect.arrayContaining(items(count).map(({ id }) => id)));
          expect(fake.log.length).toBeLessThan(10 + 5 * count);
        }
    },
  );
});

describe("the size of pages", () => {
  const pages = { number: 1, query: "page", size: { query: "size", records: 100, smaller: [20, 5] } };
  const answer =
    (most: number) =>
    (asked: Asked): Answered =>
      sized(asked) > most
        ? { status: 400, body: { message: `size is at most ${most}` } }
        : WAYS["numbers from 1, until an empty page"]!.answer(asked, items(23));

  it("shrinks to what the API takes, once for all pages", async () => {
    const fake = fakeApi({ get: "/s", records: "$.items[*]", key: "id", pages }, answer(10));
    expect(await recordsOf(fake)).toHaveLength(23);
    expect(fake.log.map(({ query }) => query.get("size"))).toEqual([
      "100",
      "20",
      "5",
      "5",
      "5",
      "5",
      "5",
      "5",
    ]);
  });

  it("that is refused to the last is told in the API's own words", async () => {
    const error = await failure(
      recordsOf(fakeApi({ get: "/s", records: "$.items[*]", key: "id", pages }, answer(2))),
    );
    expect(error).toMatchObject({
      code: "REQUEST_REFUSED",
      message: expect.stringContaining("size is at most 2"),
    });
  });
});

describe("an API that does not heed the page number", () => {
  it.each([{}, { key: ["hut", "id"] }, { key: "id" }])(
    "is found in records with tags and %j",
    async (key) => {
      const stream = {
        get: "/s",
        records: "$.items[*]",
        ...key,
        add: { hut: "Upper Hut" },
        pages: { number: 1, query: "seite" },
      };
      const fake = fakeApi(stream, () => ({ body: { items: items(3) } }));
      const error = await failure(recordsOf(fake));
      expect(error).toMatchObject({
        code: "PAGE_REPEATED",
        hint: expect.stringContaining("does not heed its parameter seite"),
      });
    },
  );
});

describe("pages that are empty", () => {
  it("do not end a list whose API says that there are more, but not without end", async () => {
    const stream = {
      get: "/s",
      records: "$.items[*]",
      key: "id",
      pages: { token: "$.next", query: "after" },
    };
    const gaps = fakeApi(stream, ({ turn }) => ({
      body: { items: turn === 30 ? [{ id: 1 }] : [], next: turn < 31 ? `t${turn}` : null },
    }));
    expect(await recordsOf(gaps)).toEqual([{ id: 1 }]);
    const endless = fakeApi(stream, ({ turn }) => ({ body: { items: [], next: `t${turn}` } }));
    expect(await failure(recordsOf(endless))).toMatchObject({
      code: "PAGE_REPEATED",
      message: expect.stringContaining("1001 pages in a row are empty"),
    });
  });
});

describe("several pages at once", () => {
  it("come in order where a total tells where they begin", async () => {
    const way = WAYS["numbers with a total"]!;
    const list = items(48);
    const fake = fakeApi(streamOf(way), (asked) => way.answer(asked, list));
    const asked: number[] = [];
    for await (const page of fake.api.pages("s")) {
      asked.push(fake.log.length);
      expect(page.records[0]).toEqual({ id: (page.number - 1) * SIZE + 1 });
    }
    // with the first page worked on, four more are under way
    expect(asked[0]).toBe(5);
    expect(fake.log).toHaveLength(10);
  });
});

describe("a next-page rule in TypeScript", () => {
  it("takes the page and gives the token or the address", async () => {
    const list = items(12);
    const way = WAYS["a token in the body, sent by query"]!;
    const rule = { get: "/s", records: "$.items[*]", key: "id", pages: { token: "$.none", query: "after" } };
    const byToken = fakeApi(rule, (asked) => way.answer(asked, list), {
      streams: {
        s: { next: ({ records, number }) => (records.length < SIZE ? undefined : `t${number * SIZE}`) },
      },
    });
    expect(ids(await recordsOf(byToken))).toHaveLength(12);
    const byLink = fakeApi(rule, (asked) => way.answer(asked, list), {
      streams: {
        s: { next: ({ number }) => (number === 3 ? undefined : { link: `/v1/s?after=t${number * SIZE}` }) },
      },
    });
    expect(ids(await recordsOf(byLink))).toHaveLength(12);
  });
});
