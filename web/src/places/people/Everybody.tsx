import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { makeLink, peopleQuery, putPerson, putTeam } from "../../api/people";
import type { Person, Role, Self } from "../../api/people";
import { estateQuery } from "../../api/queries";
import { Button, Field } from "../../parts/fields";
import { Overlay } from "../../parts/Overlay";

const roles: [Role, string][] = [
  ["viewer", "sees everything"],
  ["engineer", "writes drafts"],
  ["approver", "approves what concerns segments that they own"],
  ["operator", "applies drafts"],
  ["auditor", "reads the audit log and reports"],
  ["administrator", "manages people, accounts, credentials and settings"],
];

const grantText = (g: Schemas["Grant"]) =>
  g.segments?.length ? `${g.role} in ${g.segments.join(", ")}` : g.role;

/** All people and teams; an administrator changes them. */
export function Everybody({ me }: { me: Self }) {
  const people = useQuery(peopleQuery);
  const [open, setOpen] = useState<Person | "new" | null>(null);
  const [team, setTeam] = useState<{ name: string; members: string[] } | null>(null);
  if (people.error) return <p className="pt-4 text-denied">{people.error.message}</p>;
  if (!people.data) return null;
  const may = me.roles.includes("administrator");
  const teamsOf = (name: string) =>
    people.data.teams.filter((t) => t.members.includes(name)).map((t) => t.name);
  const called = new Map(people.data.people.map((p) => [p.name, p.called]));
  return (
    <>
      <table className="mt-4 w-full max-w-[64rem] text-left">
        <thead className="text-[13px] text-soft">
          <tr className="border-b border-line">
            <th className="py-1 pr-4 font-normal">Name</th>
            <th className="pr-4 font-normal">Called</th>
            <th className="pr-4 font-normal">Roles</th>
            <th className="pr-4 font-normal">Teams</th>
            <th className="font-normal">Signs in</th>
          </tr>
        </thead>
        <tbody>
          {people.data.people.map((p) => (
            <tr key={p.name} className="border-b border-line/60 align-top">
              <td className="py-1.5 pr-4">
                {may ? (
                  <button className="text-accent hover:underline" onClick={() => setOpen(p)}>
                    {p.name}
                  </button>
                ) : (
                  p.name
                )}
              </td>
              <td className="py-1.5 pr-4">{p.called}</td>
              <td className="py-1.5 pr-4">{p.grants.map(grantText).join(", ") || "viewer"}</td>
              <td className="py-1.5 pr-4">{teamsOf(p.name).join(", ")}</td>
              <td className="py-1.5 text-soft">
                {!p.active
                  ? "may not sign in"
                  : p.subject
                    ? "by single sign-on"
                    : p.password
                      ? "with a password"
                      : "has no password yet"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {may && (
        <p className="pt-3">
          <Button onClick={() => setOpen("new")}>
            <Plus size={14} className="mr-1 inline" />
            Add person
          </Button>
        </p>
      )}
      <h2 className="pt-7 font-serif text-[17px] font-semibold">Teams</h2>
      <p className="text-[13px] text-soft">
        Segments can have teams as owners: one member approves changes that concern the segment.
      </p>
      <ul className="mt-2 flex flex-col gap-1">
        {people.data.teams.map((t) => (
          <li key={t.name}>
            {may ? (
              <button className="font-semibold text-accent hover:underline" onClick={() => setTeam(t)}>
                {t.name}
              </button>
            ) : (
              <span className="font-semibold">{t.name}</span>
            )}
            : {t.members.map((m) => called.get(m) ?? m).join("; ")}
          </li>
        ))}
        {people.data.teams.length === 0 && <li className="text-soft">There are no teams.</li>}
      </ul>
      {may && (
        <p className="pt-3">
          <Button onClick={() => setTeam({ name: "", members: [] })}>
            <Plus size={14} className="mr-1 inline" />
            Add team
          </Button>
        </p>
      )}
      {open && <PersonSheet person={open === "new" ? null : open} onClose={() => setOpen(null)} />}
      {team && <TeamSheet team={team} people={people.data.people} onClose={() => setTeam(null)} />}
    </>
  );
}

const blank: Person = { name: "", called: "", active: true, grants: [], password: false, subject: "" };

function PersonSheet({ person, onClose }: { person: Person | null; onClose: () => void }) {
  const queries = useQueryClient();
  const estate = useQuery(estateQuery);
  const [p, setP] = useState(person ?? blank);
  const save = useMutation({
    mutationFn: () =>
      putPerson(p.name, { called: p.called, active: p.active, grants: p.grants, subject: p.subject }),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["people"] });
      await queries.invalidateQueries({ queryKey: ["me"] });
      if (person) onClose();
    },
  });
  const link = useMutation({ mutationFn: () => makeLink(p.name) });
  const problem = (field: string) => (save.error instanceof ApiProblem ? save.error.at(field) : undefined);
  const grant = (role: Role) => p.grants.find((g) => g.role === role);
  const setGrant = (role: Role, g: Schemas["Grant"] | null) =>
    setP({ ...p, grants: [...p.grants.filter((x) => x.role !== role), ...(g ? [g] : [])] });
  const added = person !== null || save.isSuccess;
  return (
    <Overlay title={person ? person.called : "Add person"} onClose={onClose}>
      <div className="flex flex-col gap-3">
        <Field
          label="Name to sign in with"
          value={p.name}
          disabled={added}
          problem={problem("name")}
          onChange={(e) => setP({ ...p, name: e.target.value })}
        />
        <Field
          label="Called"
          hint="As others read it"
          value={p.called}
          onChange={(e) => setP({ ...p, called: e.target.value })}
        />
        <fieldset>
          <legend className="text-[13px] text-soft">Roles</legend>
          {roles.map(([role, what]) => (
            <div key={role} className="py-0.5">
              <label className="flex items-baseline gap-2">
                <input
                  type="checkbox"
                  checked={grant(role) !== undefined}
                  onChange={(e) => setGrant(role, e.target.checked ? { role } : null)}
                />
                {role} <span className="text-[13px] text-soft">{what}</span>
              </label>
              {grant(role) && ["engineer", "approver", "operator"].includes(role) && (
                <label className="flex items-center gap-2 pl-6 text-[13px] text-soft">
                  in segments
                  <input
                    aria-label={`Segments of ${role}`}
                    placeholder={`all (${(estate.data?.segments ?? [])
                      .slice(0, 3)
                      .map((x) => x.name)
                      .join(", ")} …)`}
                    defaultValue={(grant(role)?.segments ?? []).join(", ")}
                    className="flex-1 rounded border border-line bg-paper px-2 py-0.5"
                    onBlur={(e) => {
                      const segments = e.target.value
                        .split(",")
                        .map((s) => s.trim())
                        .filter(Boolean);
                      setGrant(role, segments.length > 0 ? { role, segments } : { role });
                    }}
                  />
                </label>
              )}
            </div>
          ))}
          {problem("grants") && (
            <p role="alert" className="text-[13px] text-denied">
              {problem("grants")?.message}; {problem("grants")?.fix}
            </p>
          )}
        </fieldset>
        <Field
          label="Single sign-on"
          hint="The address of the issuer, where they are known by this name; or issuer and subject. Left blank, they have a password"
          value={p.subject}
          onChange={(e) => setP({ ...p, subject: e.target.value })}
        />
        <label className="flex items-baseline gap-2">
          <input
            type="checkbox"
            checked={p.active}
            onChange={(e) => setP({ ...p, active: e.target.checked })}
          />
          may sign in
        </label>
        {save.error && !(save.error instanceof ApiProblem && save.error.problem.problems) && (
          <p className="text-denied">{save.error.message}</p>
        )}
        {link.data && (
          <p className="rounded border border-line bg-paper px-3 py-2 text-[13px]">
            With this link, within an hour and once, {p.called || p.name} sets a password:
            <br />
            <code className="font-mono break-all">{window.location.origin + link.data.link}</code>
          </p>
        )}
        <div className="flex gap-2">
          <Button main disabled={save.isPending || !p.name} onClick={() => save.mutate()}>
            {added ? "Save person" : "Add person"}
          </Button>
          {added && (
            <Button disabled={link.isPending} onClick={() => link.mutate()}>
              Make link to set password
            </Button>
          )}
        </div>
      </div>
    </Overlay>
  );
}

function TeamSheet({
  team,
  people,
  onClose,
}: {
  team: { name: string; members: string[] };
  people: Person[];
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const [name, setName] = useState(team.name);
  const [members, setMembers] = useState(team.members);
  const save = useMutation({
    mutationFn: (list: string[]) => putTeam(name, list),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["people"] });
      onClose();
    },
  });
  return (
    <Overlay title={team.name ? `Team ${team.name}` : "Add team"} onClose={onClose}>
      <div className="flex flex-col gap-3">
        {!team.name && <Field label="Name" value={name} onChange={(e) => setName(e.target.value)} />}
        <fieldset>
          <legend className="text-[13px] text-soft">Members</legend>
          {people.map((p) => (
            <label key={p.name} className="flex items-baseline gap-2 py-0.5">
              <input
                type="checkbox"
                checked={members.includes(p.name)}
                onChange={(e) =>
                  setMembers(e.target.checked ? [...members, p.name] : members.filter((m) => m !== p.name))
                }
              />
              {p.called}
            </label>
          ))}
        </fieldset>
        {save.error && (
          <p role="alert" className="text-denied">
            {save.error.message}
          </p>
        )}
        <div className="flex gap-2">
          <Button main disabled={!name || members.length === 0} onClick={() => save.mutate(members)}>
            Save team
          </Button>
          {team.name && <Button onClick={() => save.mutate([])}>Remove team</Button>}
        </div>
      </div>
    </Overlay>
  );
}
