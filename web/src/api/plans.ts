import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";

export type Plan = Schemas["Plan"];
export type PlanWrite = Schemas["PlanWrite"];
export type Applying = Schemas["Applying"];
export type PacketResult = Schemas["PacketResult"];
export type PacketRound = Schemas["PacketRound"];

const asJson = { headers: { "Content-Type": "application/json" } };

/** Whether targets hold what the applied estate asks of them, and the last plans. */
export const applyingQuery = queryOptions({
  queryKey: ["applying"],
  queryFn: async ({ signal }) => take(await client.GET("/api/applying", { signal })),
  retry: false,
});

/** How often a plan that is under way is asked for, in milliseconds, beside what is told of it. */
const again = 3000;

/** Which writes of a plan are wanted: how many of each step, and of which target; "" for all. */
export interface Wanted {
  most: number;
  target: string;
}

/** How many writes of each step are shown before more are asked for. */
export const mostWrites = 60;

/** A plan, and how far it is. */
export const planQuery = (id: number, wanted: Wanted) =>
  queryOptions({
    queryKey: ["applying", "plan", id, wanted],
    queryFn: async ({ signal }) =>
      take(
        await client.GET("/api/plans/{id}", {
          params: { path: { id }, query: { most: wanted.most, target: wanted.target || undefined } },
          signal,
        }),
      ),
    retry: false,
    placeholderData: keepPreviousData,
    refetchInterval: ({ state }) => (state.data?.state === "running" ? again : false),
  });

/** The plan that applying a draft would be; 0 for what is applied. */
export const previewQuery = (draft: number, putRight = false) =>
  queryOptions({
    queryKey: ["applying", "preview", draft, putRight],
    queryFn: async ({ signal }) =>
      take(
        await client.POST("/api/plans/preview", {
          params: {
            query: { most: 5 * mostWrites, ...(draft && { draft }), ...(putRight && { "put-right": true }) },
          },
          ...asJson,
          signal,
        }),
      ),
    retry: false,
    staleTime: Infinity,
    refetchOnWindowFocus: false,
  });

/** Plans anew and carries it out; undefined where nothing is to be written. */
export const beginPlan = async (putRight: boolean): Promise<Plan | undefined> => {
  const answer = await client.POST("/api/plans", { body: { putRight } });
  if (answer.response.status === 204) return undefined;
  return take(answer);
};

export type PlanOrder = "start" | "pause" | "resume" | "stop" | "retry";

export const steerPlan = async (id: number, order: PlanOrder) =>
  take(await client.POST("/api/plans/{id}/order", { params: { path: { id } }, body: { order } }));

export interface PacketAsked {
  from: string;
  to: string;
  on: string;
  sport?: number;
  publication?: string;
}

export const sendPacket = async (p: PacketAsked) => take(await client.POST("/api/packets", { body: p }));

export const roundsQuery = queryOptions({
  queryKey: ["rounds"],
  queryFn: async ({ signal }) => take(await client.GET("/api/rounds", { signal })),
});

export const sendRound = async (plan: number, segment = "") =>
  take(await client.POST("/api/rounds", { body: { segment, plan } }));

export const connectHubs = async (endpoint: string, token: string) =>
  take(await client.PUT("/api/hubs", { body: { endpoint, token } }));

/** What wants to be looked at outside of the estate. */
export const outsideQuery = queryOptions({
  queryKey: ["applying", "outside"],
  queryFn: async ({ signal }) => take(await client.GET("/api/outside", { signal })),
  retry: false,
});

/** Reads all accounts again, and returns the same. */
export const lookOutside = async () => take(await client.POST("/api/outside", asJson));
