import { queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";

export type Notice = Schemas["Notice"];
export type NoticeSettings = Schemas["NoticeSettings"];

const asJson = { headers: { "Content-Type": "application/json" } };

/** What one should know, the newest first. */
export const noticesQuery = queryOptions({
  queryKey: ["notices"],
  queryFn: async ({ signal }) => take(await client.GET("/api/notices", { signal })),
});

export const seeNotices = async (upTo: number) =>
  take(await client.POST("/api/notices/seen", { body: { upTo } }));

/** Where one wants to be told, besides in the browser. */
export const noticeSettingsQuery = queryOptions({
  queryKey: ["notices", "settings"],
  queryFn: async ({ signal }) => take(await client.GET("/api/notices/settings", { signal })),
});

export const putNoticeSettings = async (s: Pick<NoticeSettings, "email" | "webhook" | "kinds">) =>
  take(await client.PUT("/api/notices/settings", { body: s }));

export const testNotices = async () => take(await client.POST("/api/notices/test", asJson));
