import createClient from "openapi-fetch";
import { whereQuery } from "../frame/where";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];

export const client = createClient<paths>({ baseUrl: "" });

// Who is not signed in, or no longer, signs in and comes back to where they were.
client.use({
  // What is asked is asked of what one looks at.
  async onRequest({ request }) {
    const query = whereQuery();
    if (Object.keys(query).length === 0) return undefined;
    const url = new URL(request.url);
    for (const [key, value] of Object.entries(query)) url.searchParams.set(key, value);
    const { method, headers, signal } = request;
    // A body is sent whole: browsers stream one that is taken from another request, or refuse to.
    const body = method === "GET" ? null : await request.text();
    return new Request(url, { method, headers, signal, body });
  },
  onResponse({ response }) {
    if (response.status === 401 && window.location.pathname !== signInPath)
      window.location.assign(signInFrom(window.location.pathname + window.location.search));
  },
});

export const signInPath = "/sign-in";

/** The address of the sign-in page that leads back to another. */
export const signInFrom = (path: string) =>
  path === "/" ? signInPath : `${signInPath}?to=${encodeURIComponent(path)}`;

/** What the server says went wrong, each problem at its field. */
export class ApiProblem extends Error {
  readonly problem: Schemas["Problem"];

  constructor(problem: Schemas["Problem"]) {
    super(problem.detail ? `${problem.title}. ${problem.detail}` : problem.title);
    this.problem = problem;
  }

  /** The problem at a field, if there is one. */
  at(field: string): Schemas["FieldProblem"] | undefined {
    return this.problem.problems?.find((p) => p.at === field);
  }
}

/** Returns the data of a response, undefined for one that has none, or throws what went wrong. */
export function take<T>(response: { data?: T; error?: unknown; response: Response }): T {
  if (response.data !== undefined) return response.data;
  if (response.response.status === 204) return undefined as T;
  const problem = response.error as Schemas["Problem"] | undefined;
  if (problem?.title) throw new ApiProblem(problem);
  throw new Error(`The server answered ${response.response.status} and did not say why`);
}
