import { keepPreviousData, queryOptions, useQuery } from "@tanstack/react-query";
import { client, take } from "./client";
import type { Schemas } from "./client";

export type Role = Schemas["Role"];
export type Self = Schemas["Self"];
export type Person = Schemas["People"]["people"][number];

const asJson = { headers: { "Content-Type": "application/json" } };

/** How one can sign in. */
export const signInQuery = queryOptions({
  queryKey: ["sign-in"],
  queryFn: async ({ signal }) => take(await client.GET("/api/sign-in", { signal })),
});

export const signIn = async (name: string, password: string) =>
  take(await client.POST("/api/sign-in", { body: { name, password } }));

export const signInDemo = async (name: string) =>
  take(await client.POST("/api/sign-in/demo", { body: { name } }));

export const signInLink = async (link: string, name: string, password: string) =>
  take(await client.POST("/api/sign-in/link", { body: { link, password, ...(name && { name }) } }));

export const signOut = async () => take(await client.POST("/api/sign-out", asJson));

/** Who one is, and what one may do. */
export const meQuery = queryOptions({
  queryKey: ["me"],
  queryFn: async ({ signal }) => take(await client.GET("/api/me", { signal })),
  staleTime: 60_000,
});

/** Whether one has a role; true while that is not known. */
export function useMay(role: Role): boolean {
  const me = useQuery(meQuery);
  return me.data === undefined || me.data.roles.includes(role);
}

export const changePassword = async (old: string, password: string) =>
  take(await client.PUT("/api/me/password", { body: { old, password } }));

export const peopleQuery = queryOptions({
  queryKey: ["people"],
  queryFn: async ({ signal }) => take(await client.GET("/api/people", { signal })),
});

export const putPerson = async (name: string, body: Omit<Person, "name" | "password">) =>
  take(await client.PUT("/api/people/{name}", { params: { path: { name } }, body }));

export const makeLink = async (name: string) =>
  take(await client.POST("/api/people/{name}/link", { params: { path: { name } }, ...asJson }));

export const putTeam = async (name: string, members: string[]) =>
  take(await client.PUT("/api/teams/{name}", { params: { path: { name } }, body: { members } }));

export const tokensQuery = queryOptions({
  queryKey: ["tokens"],
  queryFn: async ({ signal }) => take(await client.GET("/api/tokens", { signal })),
});

export const makeToken = async (body: { name: string; role: Role; ends: string }) =>
  take(await client.POST("/api/tokens", { body }));

export const dropToken = async (id: number) =>
  take(await client.DELETE("/api/tokens/{id}", { params: { path: { id } }, ...asJson }));

export const auditQuery = (find: string) =>
  queryOptions({
    queryKey: ["audit", find],
    queryFn: async ({ signal }) =>
      take(await client.GET("/api/audit", { params: { query: { find } }, signal })),
    placeholderData: keepPreviousData,
  });

export const verifyQuery = queryOptions({
  queryKey: ["audit-verify"],
  queryFn: async ({ signal }) => take(await client.GET("/api/audit/verify", { signal })),
});
