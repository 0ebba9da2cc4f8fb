import { useRouteError } from "react-router";

/** What stands in for a screen that failed: what went wrong, and what to do. */
export function Broken() {
  const error = useRouteError();
  const what = error instanceof Error ? `${error.name}: ${error.message}` : String(error);
  return (
    <section role="alert" className="mx-auto max-w-[38rem] px-6 pt-16">
      <h1 className="font-serif text-[22px] font-semibold">This page failed</h1>
      <p className="pt-2">
        The fault is in the page, not in the estate: nothing was changed. The other places still work; if this
        one fails again, its address and the line below show a developer where to look.
      </p>
      <p className="pt-3 font-mono text-xs break-words text-soft">
        {window.location.pathname + window.location.search}
        <br />
        {what}
      </p>
      <button
        onClick={() => window.location.reload()}
        className="mt-4 rounded border border-accent px-3 py-1 text-accent hover:bg-accent/10"
      >
        Reload
      </button>
    </section>
  );
}
