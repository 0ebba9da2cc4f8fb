import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiProblem } from "../../api/client";
import { changePassword, dropToken, makeToken, tokensQuery } from "../../api/people";
import type { Role, Self } from "../../api/people";
import { Button, Field } from "../../parts/fields";
import { Pick } from "../../parts/Pick";
import { day, inDays } from "../../parts/wording";

/** One's password, and the tokens with which scripts act for one. */
export function Myself({ me }: { me: Self }) {
  return (
    <div className="grid max-w-[64rem] grid-cols-[22rem_1fr] gap-12 pt-4 max-[900px]:grid-cols-1">
      <Password />
      <Tokens me={me} />
    </div>
  );
}

function Password() {
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const change = useMutation({
    mutationFn: () => changePassword(old, password),
    onSuccess: () => {
      setOld("");
      setPassword("");
    },
  });
  const problem = (field: string) =>
    change.error instanceof ApiProblem ? change.error.at(field) : undefined;
  return (
    <form
      aria-label="Password"
      className="flex flex-col gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <h2 className="font-serif text-[17px] font-semibold">Password</h2>
      <Field
        label="Present password"
        type="password"
        autoComplete="current-password"
        value={old}
        problem={problem("old")}
        onChange={(e) => setOld(e.target.value)}
      />
      <Field
        label="New password"
        hint="At least 12 characters. Your other sessions end."
        type="password"
        autoComplete="new-password"
        value={password}
        problem={problem("password")}
        onChange={(e) => setPassword(e.target.value)}
      />
      {change.isSuccess && <p>The password is changed.</p>}
      {change.error && !problem("old") && !problem("password") && (
        <p className="text-denied">{change.error.message}</p>
      )}
      <div>
        <Button type="submit" disabled={change.isPending || !old || !password}>
          Change password
        </Button>
      </div>
    </form>
  );
}

function Tokens({ me }: { me: Self }) {
  const queries = useQueryClient();
  const tokens = useQuery(tokensQuery);
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>(me.roles[0] ?? "viewer");
  const [ends, setEnds] = useState(inDays(90));
  const again = () => queries.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({ mutationFn: () => makeToken({ name, role, ends }), onSuccess: again });
  const drop = useMutation({ mutationFn: dropToken, onSuccess: again });
  const problem = (field: string) => (make.error instanceof ApiProblem ? make.error.at(field) : undefined);
  const roles: Role[] = me.roles.includes("viewer") ? me.roles : ["viewer", ...me.roles];
  return (
    <section aria-label="Tokens">
      <h2 className="font-serif text-[17px] font-semibold">Tokens</h2>
      <p className="text-[13px] text-soft">
        With a token, a script acts for you in one of your roles. It sends it as{" "}
        <code className="font-mono">Authorization: Bearer …</code>; commands take it from{" "}
        <code className="font-mono">BIVIUM_TOKEN</code>.
      </p>
      <ul className="mt-3 flex flex-col">
        {tokens.data?.tokens.map((t) => (
          <li key={t.id} className="flex items-baseline gap-4 border-b border-line/60 py-1.5">
            <span className="font-semibold">{t.name}</span>
            <span>{t.role}</span>
            <span className="flex-1 text-[13px] text-soft">
              until {day(t.ends)}; {t.used ? `last used on ${day(t.used)}` : "never used"}
            </span>
            <Button onClick={() => drop.mutate(t.id)}>Revoke token</Button>
          </li>
        ))}
        {tokens.data?.tokens.length === 0 && <li className="text-soft">You have no tokens.</li>}
      </ul>
      <form
        aria-label="New token"
        className="mt-5 flex flex-wrap items-start gap-4"
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
      >
        <Field
          label="For what"
          value={name}
          problem={problem("name")}
          onChange={(e) => setName(e.target.value)}
        />
        <div>
          <p className="text-[13px] text-soft">Role</p>
          <Pick
            label="Role"
            value={role}
            options={roles.map((r) => [r, r] as const)}
            className="mt-0.5 rounded bg-paper px-2.5 py-1.5"
            onChange={(r) => setRole(roles.find((x) => x === r) ?? "viewer")}
          />
        </div>
        <Field
          label="Last day"
          type="date"
          value={ends}
          problem={problem("ends")}
          onChange={(e) => setEnds(e.target.value)}
        />
        <div className="pt-[22px]">
          <Button type="submit" disabled={make.isPending}>
            Make token
          </Button>
        </div>
      </form>
      {make.data && (
        <p className="mt-3 rounded border border-line bg-sheet px-3 py-2">
          The token is shown this once:
          <br />
          <code className="font-mono break-all">{make.data.secret}</code>
        </p>
      )}
    </section>
  );
}
