import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";

const asJson = { headers: { "Content-Type": "application/json" } };

export type Target = Schemas["Target"];
export type Line = Schemas["NativeLine"];

/** The hubs, pools, clouds and premises, and how much each has to hold. */
export const targetsQuery = queryOptions({
  queryKey: ["estate", "targets"],
  queryFn: async ({ signal }) => take(await client.GET("/api/targets", { signal })),
});

/** What one target has to hold. */
export const heldQuery = (kind: string, name: string) =>
  queryOptions({
    queryKey: ["estate", "targets", kind, name],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/targets/held", { params: { query: { kind, name } }, signal })),
    placeholderData: keepPreviousData,
    retry: false,
  });

/** The rules of all targets that are for one rule object. */
export const usesQuery = (kind: string, name: string) =>
  queryOptions({
    queryKey: ["estate", "targets", "for", kind, name],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/targets/for", { params: { query: { kind, name } }, signal })),
    retry: false,
  });

/** How what targets have to hold compares with what is meant, for all flows. */
export const proofQuery = queryOptions({
  queryKey: ["estate", "targets", "proof"],
  queryFn: async ({ signal }) => take(await client.GET("/api/targets/proof", { signal })),
});

/** Begins a draft that makes the estate say what connected accounts do otherwise. */
export const takeOver = async () => take(await client.POST("/api/targets/take-over", asJson));

/** What connected accounts hold now, beside what they have to hold: read when it is asked for. */
export const driftQuery = queryOptions({
  queryKey: ["estate", "targets", "drift"],
  queryFn: async ({ signal }) => take(await client.POST("/api/targets/look", { ...asJson, signal })),
  staleTime: Infinity,
  refetchOnWindowFocus: false,
});

/** What the lists of accounts that are observed only do, beside what policies intend; with the cells of a board. */
export const observedQuery = (open: string[]) =>
  queryOptions({
    queryKey: ["estate", "targets", "observed", open.join()],
    queryFn: async ({ signal }) =>
      take(
        await client.POST("/api/targets/observed", {
          ...asJson,
          params: { query: { open: open.join() } },
          signal,
        }),
      ),
    staleTime: Infinity,
    refetchOnWindowFocus: false,
  });

/** Begins a draft of the policies that say what accounts that are observed only do. */
export const propose = async () => take(await client.POST("/api/targets/propose", asJson));
