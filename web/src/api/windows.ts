import { queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";

export type ChangeWindow = Schemas["ChangeWindow"];

/** When drafts may be applied, and when they may not. */
export const windowsQuery = queryOptions({
  queryKey: ["windows"],
  queryFn: async ({ signal }) => take(await client.GET("/api/windows", { signal })),
});

export const addWindow = async (w: Omit<ChangeWindow, "id" | "days"> & { days: string[] }) =>
  take(await client.POST("/api/windows", { body: w }));

export const dropWindow = async (id: number) =>
  take(
    await client.DELETE("/api/windows/{id}", {
      params: { path: { id } },
      headers: { "Content-Type": "application/json" },
    }),
  );
