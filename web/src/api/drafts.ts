import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";

export type DraftSummary = Schemas["Draft"];
export type DraftReview = Schemas["DraftReview"];

const asJson = { headers: { "Content-Type": "application/json" } };
const seen = (version: number) => ({ header: { "If-Match": `"${version}"` } });

export const draftsQuery = queryOptions({
  queryKey: ["drafts"],
  queryFn: async ({ signal }) => take(await client.GET("/api/drafts", { signal })),
});

/** Everything about a draft. */
export const draftQuery = (id: number) =>
  queryOptions({
    queryKey: ["drafts", id],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/drafts/{id}", { params: { path: { id } }, signal })),
    placeholderData: keepPreviousData,
    retry: false,
  });

/** The findings that a version of a draft brings, and those that it does away with. */
export const draftFindingsQuery = (id: number, version: number) =>
  queryOptions({
    queryKey: ["drafts", id, "findings", version],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/drafts/{id}/findings", { params: { path: { id } }, signal })),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const beginDraft = async (name = "") =>
  take(await client.POST("/api/drafts", { body: name ? { name } : {} }));

const at = (id: number) => ({ params: { path: { id } } });

export const describeDraft = async (id: number, body: { name: string; reason: string; ticket: string }) =>
  take(await client.PUT("/api/drafts/{id}", { ...at(id), body }));

export const undoInDraft = async (id: number) =>
  take(await client.POST("/api/drafts/{id}/undo", { ...at(id), ...asJson }));

export const redoInDraft = async (id: number) =>
  take(await client.POST("/api/drafts/{id}/redo", { ...at(id), ...asJson }));

export const moveDraft = async (id: number, state: "open" | "review" | "discarded") =>
  take(await client.POST("/api/drafts/{id}/state", { ...at(id), body: { state } }));

export const decideConflict = async (id: number, thing: Schemas["Thing"], mine: boolean) =>
  take(await client.POST("/api/drafts/{id}/conflict", { ...at(id), body: { ...thing, mine } }));

export const approveDraft = async (id: number, version: number) =>
  take(
    await client.POST("/api/drafts/{id}/approval", {
      params: { path: { id }, ...seen(version) },
      ...asJson,
    }),
  );

export const applyDraft = async (id: number, version: number, emergency = "", staged = false) =>
  take(
    await client.POST("/api/drafts/{id}/application", {
      params: { path: { id }, ...seen(version) },
      body: { ...(emergency && { emergency }), ...(staged && { staged }) },
    }),
  );

export const commentOnDraft = async (id: number, about: string, text: string) =>
  take(await client.POST("/api/drafts/{id}/comments", { ...at(id), body: { about, text } }));

export const resolveComment = async (id: number, comment: number) =>
  take(
    await client.PUT("/api/drafts/{id}/comments/{comment}", {
      params: { path: { id, comment } },
      ...asJson,
    }),
  );

export const openInDraft = async (id: number, object: string) =>
  take(await client.PUT("/api/drafts/{id}/open", { ...at(id), body: { object } }));

/** The revisions of the estate, the newest first, page by page. */
export const revisionsQuery = (all: boolean) =>
  infiniteQueryOptions({
    queryKey: ["revisions", all],
    queryFn: async ({ pageParam, signal }) =>
      take(await client.GET("/api/revisions", { params: { query: { before: pageParam, all } }, signal })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.entries.length === 100 ? last.entries.at(-1)?.number : undefined),
  });

export const compareQuery = (from: number, to: number) =>
  queryOptions({
    queryKey: ["compare", from, to],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/compare", { params: { query: { from, to } }, signal })),
    retry: false,
    staleTime: Infinity, // a revision never changes
  });

export const blameQuery = (w: {
  from: string;
  to: string;
  on: string;
  sport?: number;
  publication?: string;
}) =>
  queryOptions({
    queryKey: ["blame", w],
    queryFn: async ({ signal }) => {
      const query = {
        from: w.from,
        to: w.to,
        on: w.on,
        ...(w.sport && { sport: w.sport }),
        ...(w.publication && { publication: w.publication }),
      };
      return take(await client.GET("/api/blame", { params: { query }, signal }));
    },
    retry: false,
  });

export const rollBack = async (number: number) =>
  take(await client.POST("/api/revisions/{number}/roll-back", { params: { path: { number } }, ...asJson }));

export const reviewLater = async (number: number) =>
  take(await client.POST("/api/revisions/{number}/review", { params: { path: { number } }, ...asJson }));
