import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";
import { beginDraft } from "./drafts";
import { lookAt, where } from "../frame/where";

export type Question = { from: string; to: string; on: string };

// Every key begins with "estate", so that one call makes all answers stale
// when the estate has changed.
const estate = "estate";
export const everything = [estate];

/** How soon what is still being worked out is asked for again, in milliseconds. */
const soon = 700;

const again = (query: { state: { data?: { counting: boolean } | undefined } }) =>
  query.state.data?.counting ? soon : false;

export const estateQuery = queryOptions({
  queryKey: [estate, "summary"],
  queryFn: async ({ signal }) => take(await client.GET("/api/estate", { signal })),
});

export const completionQuery = (field: "from" | "to" | "on", text: string) =>
  queryOptions({
    queryKey: [estate, "complete", field, text],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/complete", { params: { query: { field, text } }, signal })),
    placeholderData: keepPreviousData,
  });

export const answerQuery = (question: Question) =>
  queryOptions({
    queryKey: [estate, "ask", question],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/ask", { params: { query: question }, signal })),
    enabled: question.from !== "" && question.to !== "" && question.on !== "",
    retry: false,
  });

export const decidingQuery = (question: Question, outcome?: Schemas["Outcome"]) =>
  queryOptions({
    queryKey: [estate, "deciding", question, outcome],
    queryFn: async ({ signal }) => {
      const query = {
        from: question.from || undefined,
        to: question.to || undefined,
        on: question.on || undefined,
        outcome,
      };
      return take(await client.GET("/api/rules/deciding", { params: { query }, signal }));
    },
    placeholderData: keepPreviousData,
    retry: false,
  });

/** What single failures would change: all of them, or those of one thing, such as hub:fjord. */
export const failuresQuery = (of: string) =>
  queryOptions({
    queryKey: [estate, "failures", of],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/failures", { params: { query: { of: of || undefined } }, signal })),
    retry: false,
  });

/** What each rule of a policy, share or rulebook decides, such as of rulebook:control. */
export const decidedQuery = (of: string) =>
  queryOptions({
    queryKey: [estate, "decided", of],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/rules/decided", { params: { query: { of } }, signal })),
    retry: false,
  });

/** Where a rule object, pool or group is at work, such as pool:tidegate. */
export const scopeQuery = (of: string) =>
  queryOptions({
    queryKey: [estate, "scope", of],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/rules/scope", { params: { query: { of } }, signal })),
    retry: false,
  });

export const roadQuery = (w: Schemas["Witness"]) =>
  queryOptions({
    queryKey: [estate, "trace", w],
    queryFn: async ({ signal }) => {
      const query = {
        from: w.from,
        to: w.to,
        on: w.on,
        sport: w.sport,
        publication: w.publication || undefined,
      };
      return take(await client.GET("/api/trace", { params: { query }, signal }));
    },
    placeholderData: keepPreviousData,
    retry: false,
  });

export const boardQuery = (open: string[]) =>
  queryOptions({
    queryKey: [estate, "board", open],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/board", { params: { query: { open: open.join(",") } }, signal })),
    placeholderData: keepPreviousData,
  });

/** How many rows and columns a piece of the board has; the server says so too. */
export const pieceSize = 16;

/** A piece of the board, by the place of its first row and column. */
export const cellsQuery = (open: string[], revision: number, row: number, col: number) =>
  queryOptions({
    queryKey: [estate, "cells", open, revision, row, col],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/cells", { params: { query: { open: open.join(","), row, col } }, signal })),
    staleTime: Infinity, // a revision never changes
  });

/** Which faults and findings are wanted; what is empty does not narrow them. */
export type IssueFilter = {
  severity: "" | Schemas["IssueKind"]["severity"];
  segment: string;
  owner: string;
  find: string;
};

const given = (filter: IssueFilter) => ({
  ...(filter.severity && { severity: filter.severity }),
  ...(filter.segment && { segment: filter.segment }),
  ...(filter.owner && { owner: filter.owner }),
  ...(filter.find && { find: filter.find }),
});

/** The first faults and findings of each kind that fit, and the one of a key. */
export const issuesQuery = (filter: IssueFilter, key: string | null) =>
  queryOptions({
    queryKey: [estate, "issues", filter, key],
    queryFn: async ({ signal }) => {
      const query = { ...given(filter), ...(key && { key }) };
      return take(await client.GET("/api/issues", { params: { query }, signal }));
    },
    refetchInterval: again,
    placeholderData: keepPreviousData,
  });

/** Further issues of one kind, page by page. */
export const moreIssuesQuery = (filter: IssueFilter, code: string, first: number, enabled: boolean) =>
  infiniteQueryOptions({
    queryKey: [estate, "issues", "more", filter, code],
    queryFn: async ({ pageParam, signal }) => {
      const query = { ...given(filter), code, from: pageParam };
      const page = take(await client.GET("/api/issues", { params: { query }, signal }));
      return page.kinds[0]?.list ?? [];
    },
    initialPageParam: first,
    getNextPageParam: (last, _, from) => (last.length > 0 ? from + last.length : undefined),
    enabled,
  });

export const cellQuery = (row: string, col: string) =>
  queryOptions({
    queryKey: [estate, "cell", row, col],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/cell", { params: { query: { row, col } }, signal })),
    placeholderData: keepPreviousData,
  });

/** All objects that say what should be. */
export const rulesQuery = queryOptions({
  queryKey: [estate, "rules"],
  queryFn: async ({ signal }) => take(await client.GET("/api/rules", { signal })),
  refetchInterval: again,
});

export type Kind = Schemas["Kind"];

/** One object of any kind, ready to be edited. */
export const objectQuery = (kind: Kind, name: string) =>
  queryOptions({
    queryKey: [estate, "object", kind, name],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/object", { params: { query: { kind, name } }, signal })),
    placeholderData: keepPreviousData,
    retry: false,
  });

export type Operation = Schemas["Operation"];
export type WiringEdit = Schemas["WiringEdit"];

/** Operations, and short edits of the wiring that stand for further ones. */
export interface EstateEdit {
  operations?: Operation[];
  wiring?: WiringEdit[];
}

const isEmpty = (edit: EstateEdit) => !edit.operations?.length && !edit.wiring?.length;

/** What an edit would change, or why it is refused. */
export const tryQuery = (edit: EstateEdit) =>
  queryOptions({
    queryKey: [estate, "try", edit],
    queryFn: async ({ signal }) => take(await client.POST("/api/edit/try", { body: edit, signal })),
    enabled: !isEmpty(edit),
    retry: false,
  });

/**
 * Makes an edit that its author wrote when what they looked at was at a revision: in the draft
 * that they look at, or in a new one, at which they look from then on.
 */
export async function postEdit(edit: EstateEdit, revision: number) {
  if (where().kind === "applied") {
    const draft = await beginDraft();
    const params = { ...based(revision), query: { draft: draft.id } };
    const made = take(await client.POST("/api/edit", { params, body: edit }));
    lookAt({ kind: "draft", id: draft.id });
    return made;
  }
  return take(await client.POST("/api/edit", { params: based(revision), body: edit }));
}

/** How often a reading that runs is looked at, in milliseconds. */
const watching = 400;

export const accountsQuery = queryOptions({
  queryKey: [estate, "accounts"],
  queryFn: async ({ signal }) => take(await client.GET("/api/accounts", { signal })),
  refetchInterval: (query) =>
    query.state.data?.accounts.some((a) => a.reading?.state === "running") ? watching : false,
});

export const lanesQuery = queryOptions({
  queryKey: [estate, "lanes"],
  queryFn: async ({ signal }) => take(await client.GET("/api/lanes", { signal })),
  refetchInterval: again,
});

export const routesQuery = (of: { segment?: string; hub?: string; network?: string; find?: string }) =>
  queryOptions({
    queryKey: [estate, "routes", of],
    queryFn: async ({ signal }) => take(await client.GET("/api/routes", { params: { query: of }, signal })),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const undoQuery = queryOptions({
  queryKey: [estate, "undo"],
  queryFn: async ({ signal }) => take(await client.GET("/api/undo", { signal })),
});

/** Puts a thing that could not be read back, as text has it. */
export const putAside = async (id: number, text: string, revision: number) =>
  take(
    await client.PUT("/api/aside/{id}", {
      params: { path: { id }, ...based(revision) },
      body: {},
      bodySerializer: () => text,
    }),
  );

export const deleteAside = async (id: number) =>
  take(await client.DELETE("/api/aside/{id}", { params: { path: { id } }, ...asJson }));

export const postUndo = async (revision: number) =>
  take(await client.POST("/api/undo", { params: based(revision), ...asJson }));

/** How often accounts are asked how things are, in milliseconds. */
const asking = 15_000;

export const statesQuery = queryOptions({
  queryKey: [estate, "states"],
  queryFn: async ({ signal }) => take(await client.POST("/api/states", { ...asJson, signal })),
  refetchInterval: asking,
});

/** How often hubs are asked what routers say, in milliseconds. */
const listening = 4_000;

export const sessionsQuery = queryOptions({
  queryKey: [estate, "sessions"],
  queryFn: async ({ signal }) => take(await client.GET("/api/sessions", { signal })),
  refetchInterval: listening,
});

export const healthQuery = (account: string, enabled: boolean) =>
  queryOptions({
    queryKey: [estate, "health", account],
    queryFn: async ({ signal }) =>
      take(
        await client.POST("/api/accounts/{name}/health", {
          params: { path: { name: account } },
          ...asJson,
          signal,
        }),
      ),
    enabled,
    retry: false,
  });

export const nativeRulesQuery = (network: string, enabled: boolean) =>
  queryOptions({
    queryKey: [estate, "native-rules", network],
    queryFn: async ({ signal }) =>
      take(
        await client.POST("/api/networks/{name}/rules", {
          params: { path: { name: network } },
          ...asJson,
          signal,
        }),
      ),
    enabled,
    retry: false,
  });

/** How many rows of the tree are fetched at once; the server gives no fewer. */
export const treePage = 100;

export const rowsQuery = (look: Schemas["Look"]) =>
  queryOptions({
    queryKey: [estate, "rows", look],
    queryFn: async ({ signal }) => take(await client.POST("/api/rows", { body: look, signal })),
    refetchInterval: again,
    placeholderData: keepPreviousData,
  });

export const sheetQuery = (kind: string, name: string) =>
  queryOptions({
    queryKey: [estate, "sheet", kind, name],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/sheet", { params: { query: { kind, name } }, signal })),
    refetchInterval: again,
    retry: false,
  });

export const tagsQuery = queryOptions({
  queryKey: [estate, "tags"],
  queryFn: async ({ signal }) => take(await client.GET("/api/tags", { signal })),
});

export const tagsTryQuery = (rules: Schemas["MappingRule"][], enabled: boolean) =>
  queryOptions({
    queryKey: [estate, "tags-try", rules],
    queryFn: async ({ signal }) => take(await client.POST("/api/tags/try", { body: { rules }, signal })),
    enabled,
    placeholderData: keepPreviousData,
    retry: false,
  });

export const membersQuery = (match: string) =>
  queryOptions({
    queryKey: [estate, "members", match],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/members", { params: { query: { match } }, signal })),
    enabled: match !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });

const based = (revision: number) => ({ header: { "If-Match": `"${revision}"` } });

export const connect = async (body: Schemas["Connection"]) =>
  take(await client.POST("/api/accounts", { body }));

export const startReading = async (name: string, goOn: boolean) =>
  take(
    await client.POST("/api/accounts/{name}/reading", {
      params: { path: { name }, query: { goOn } },
      ...asJson,
    }),
  );

export const disconnect = async (name: string) =>
  take(await client.DELETE("/api/accounts/{name}", { params: { path: { name } }, ...asJson }));

export const stopReading = async (name: string) => {
  await client.DELETE("/api/accounts/{name}/reading", { params: { path: { name } }, ...asJson });
};

// The server takes writes as JSON alone, those without a body too.
const asJson = { headers: { "Content-Type": "application/json" } };

const asDocument = {
  headers: { "Content-Type": "application/yaml" },
  bodySerializer: (text: string) => text,
};

export const tryImport = async (body: string) =>
  take(await client.POST("/api/import/try", { body, ...asDocument }));

/** Puts a document in the place of the estate at once, which only one that is empty allows. */
export const postFirst = async (body: string, revision: number) =>
  take(await client.POST("/api/import", { params: based(revision), body, ...asDocument }));

/** Puts a document in the place of what one looks at, in the draft or in a new one. */
export async function postImport(body: string, revision: number) {
  const w = where();
  const draft = w.kind === "draft" ? w.id : (await beginDraft()).id;
  const params = { ...based(revision), query: { draft } };
  const done = take(await client.POST("/api/import", { params, body, ...asDocument }));
  lookAt({ kind: "draft", id: draft });
  return done;
}

export const postDemo = async (revision: number) =>
  take(await client.POST("/api/demo", { params: based(revision), ...asJson }));
