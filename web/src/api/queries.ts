import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";

export type Question = { from: string; to: string; on: string };

// Every key begins with "estate", so that one call makes all answers stale
// when the estate has changed.
const estate = "estate";
export const everything = [estate];

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

export const troublesQuery = queryOptions({
  queryKey: [estate, "troubles"],
  queryFn: async ({ signal }) => take(await client.GET("/api/troubles", { signal })),
});

export const cellQuery = (row: string, col: string) =>
  queryOptions({
    queryKey: [estate, "cell", row, col],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/cell", { params: { query: { row, col } }, signal })),
    placeholderData: keepPreviousData,
  });

export const policiesQuery = queryOptions({
  queryKey: [estate, "policies"],
  queryFn: async ({ signal }) => take(await client.GET("/api/policies", { signal })),
});

export const policyQuery = (name: string) =>
  queryOptions({
    queryKey: [estate, "policy", name],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/policies/{name}", { params: { path: { name } }, signal })),
  });

export const effectQuery = (policy: Schemas["Policy"], enabled: boolean) =>
  queryOptions({
    queryKey: [estate, "try", policy],
    queryFn: async ({ signal }) =>
      take(
        await client.POST("/api/policies/{name}/try", {
          params: { path: { name: policy.name } },
          body: policy,
          signal,
        }),
      ),
    enabled,
    placeholderData: keepPreviousData,
    retry: false,
  });

export async function savePolicy(policy: Schemas["Policy"], revision: number) {
  return take(
    await client.PUT("/api/policies/{name}", {
      params: { path: { name: policy.name }, header: { "If-Match": `"${revision}"` } },
      body: policy,
    }),
  );
}
