import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, configure, render } from "@testing-library/react";
import type { ReactElement } from "react";
import { MemoryRouter } from "react-router";
import { afterEach } from "vitest";
import { onRequest } from "./requests";

/** What a place asked the server for, as path and query. */
export interface Asked {
  method: string;
  path: string;
  query: URLSearchParams;
  body: unknown;
}

/** Renders a part of the page, with a server that answers by the path that is asked for. */
export function show(part: ReactElement, answers: Record<string, (asked: Asked) => unknown>, at = "/") {
  const asked: Asked[] = [];
  onRequest.answer = async (request) => {
    const url = new URL(request.url);
    const text = request.method === "GET" ? "" : await request.text();
    const one = {
      method: request.method,
      path: url.pathname,
      query: url.searchParams,
      body: text ? (JSON.parse(text) as unknown) : null,
    };
    asked.push(one);
    const answer = answers[one.path];
    if (!answer) return Response.json({ title: `nothing answers ${one.path}` }, { status: 404 });
    return Response.json(answer(one));
  };
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={queries}>
      <MemoryRouter initialEntries={[at]}>{part}</MemoryRouter>
    </QueryClientProvider>,
  );
  return asked;
}

// A machine that is busy with other tests may take long; what never comes fails all the same.
configure({ asyncUtilTimeout: 20_000 });
afterEach(cleanup);
