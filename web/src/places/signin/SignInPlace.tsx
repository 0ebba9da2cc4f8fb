import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { FormEvent, ReactNode } from "react";
import { useSearchParams } from "react-router";
import { ApiProblem } from "../../api/client";
import { signIn, signInDemo, signInLink, signInQuery } from "../../api/people";
import { Wordmark } from "../../frame/Frame";
import { useTheme } from "../../frame/theme";
import { Button, Field } from "../../parts/fields";

/** Where one says who one is. */
export function SignInPlace() {
  useTheme();
  const [search] = useSearchParams();
  const link = search.get("link");
  const to = search.get("to");
  // Only a path of this server leads back, never an address of somebody else's.
  const done = () => window.location.assign(to?.startsWith("/") && !to.startsWith("//") ? to : "/");
  return (
    <main className="mx-auto flex h-full max-w-[26rem] flex-col px-6 pt-[9vh]">
      <Wordmark />
      <p className="pt-2 pb-6 text-soft">
        Shows what happens to every flow between your segments, clouds and sites.
      </p>
      {link ? <ByLink link={link} onDone={done} /> : <Ways onDone={done} />}
    </main>
  );
}

function Ways({ onDone }: { onDone: () => void }) {
  const ways = useQuery(signInQuery);
  const [search] = useSearchParams();
  const enter = useMutation({ mutationFn: signInDemo, onSuccess: onDone });
  if (ways.error) return <p className="text-denied">{ways.error.message}</p>;
  if (!ways.data) return null;
  const { doors, provider } = ways.data;
  return (
    <>
      {doors.length > 0 && (
        <section aria-label="People of the demo">
          <h1 className="font-serif text-[19px] font-semibold">This is the demo</h1>
          <p className="py-2">
            Choose who you want to be. No password is needed, because this is the demo; no other server offers
            this.
          </p>
          <ul className="flex flex-col gap-2">
            {doors.map((d) => (
              <li key={d.name}>
                <button
                  disabled={enter.isPending}
                  onClick={() => enter.mutate(d.name)}
                  className="w-full rounded-md border border-line bg-sheet px-4 py-2.5 text-left hover:border-accent"
                >
                  <span className="font-semibold">{d.called}</span>
                  <span className="block text-[13px] text-soft">{d.roles.join(", ")}</span>
                </button>
              </li>
            ))}
          </ul>
          {enter.error && (
            <p role="alert" className="pt-2 text-denied">
              {enter.error.message}
            </p>
          )}
          <h2 className="pt-7 pb-1 font-serif text-[16px] font-semibold">With a password</h2>
        </section>
      )}
      <Refused status={search.get("refused")} by={provider} />
      {provider && (
        <p className="pb-5">
          <a
            href="/api/sign-in/oidc"
            className="inline-block rounded bg-accent px-4 py-1.5 font-semibold text-sheet"
          >
            Sign in with {provider}
          </a>
        </p>
      )}
      <ByPassword onDone={onDone} />
    </>
  );
}

/** Why signing in with the provider did not work. */
function Refused({ status, by }: { status: string | null; by: string }) {
  const why: Record<string, string> = {
    400: "This browser did not begin that sign-in, or it took too long. Sign in again.",
    401: `${by} did not confirm who you are, or its answer is not valid. Sign in again.`,
    403: "No person here is known by that sign-in; an administrator can add you.",
    502: `${by} cannot be reached. Try again later.`,
  };
  const words = by && status ? why[status] : undefined;
  return words ? (
    <p role="alert" className="pb-4 text-denied">
      {words}
    </p>
  ) : null;
}

function Form({
  button,
  busy,
  error,
  onSubmit,
  children,
}: {
  button: string;
  busy: boolean;
  error: Error | null;
  onSubmit: () => void;
  children: ReactNode;
}) {
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        onSubmit();
      }}
    >
      {children}
      {error && !(error instanceof ApiProblem && error.problem.problems?.length) && (
        <p role="alert" className="text-denied">
          {error instanceof ApiProblem ? error.problem.detail || error.problem.title : error.message}
        </p>
      )}
      <div>
        <Button main type="submit" disabled={busy}>
          {button}
        </Button>
      </div>
    </form>
  );
}

const problemOf = (error: Error | null, field: string) =>
  error instanceof ApiProblem ? error.at(field) : undefined;

function ByPassword({ onDone }: { onDone: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({ mutationFn: () => signIn(name, password), onSuccess: onDone });
  return (
    <Form button="Sign in" busy={enter.isPending} error={enter.error} onSubmit={() => enter.mutate()}>
      <Field label="Name" autoComplete="username" value={name} onChange={(e) => setName(e.target.value)} />
      <Field
        label="Password"
        type="password"
        autoComplete="current-password"
        value={password}
        onChange={(e) => setPassword(e.target.value)}
      />
    </Form>
  );
}

/** A password is set by a link; the first link makes the first administrator. */
function ByLink({ link, onDone }: { link: string; onDone: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({ mutationFn: () => signInLink(link, name, password), onSuccess: onDone });
  const wrong = problemOf(enter.error, "link");
  return (
    <>
      <h1 className="pb-2 font-serif text-[19px] font-semibold">Set your password</h1>
      <Form
        button="Set password and sign in"
        busy={enter.isPending}
        error={enter.error}
        onSubmit={() => enter.mutate()}
      >
        <Field
          label="Name"
          hint="Only the first administrator chooses it; others have one already."
          autoComplete="username"
          value={name}
          problem={problemOf(enter.error, "name")}
          onChange={(e) => setName(e.target.value)}
        />
        <Field
          label="Password"
          hint="At least 12 characters"
          type="password"
          autoComplete="new-password"
          value={password}
          problem={problemOf(enter.error, "password")}
          onChange={(e) => setPassword(e.target.value)}
        />
        {wrong && (
          <p role="alert" className="text-denied">
            {wrong.message}; {wrong.fix}
          </p>
        )}
      </Form>
    </>
  );
}
