import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Copy, Pencil, Trash2 } from "lucide-react";
import { Switch } from "radix-ui";
import { useEffect, useState } from "react";
import type { ReactNode } from "react";
import { useLocation, useNavigate } from "react-router";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { everything, objectQuery, postEdit, tryQuery } from "../../api/queries";
import type { Operation, WiringEdit } from "../../api/queries";
import { openInDraft } from "../../api/drafts";
import { useWhere } from "../../frame/where";
import { isAsked, questionOf, useUrlState } from "../../frame/urlState";
import { useSettled } from "../../parts/useDebounced";
import { capital } from "../../parts/wording";
import { useAdd } from "./AddMenu";
import { DeleteOverlay } from "./DeleteOverlay";
import { draftNow, dropDraft, keepDraft, operationsOf, same, useDraft } from "./drafts";
import type { Draft } from "./drafts";
import { Editor } from "./editors/Editor";
import { Facts } from "./Facts";
import { addressOf, kinds, says } from "./kinds";
import type { RuleKind, RuleObject, Rules } from "./kinds";
import { RenameOverlay } from "./RenameOverlay";
import { Strip } from "./Strip";

interface Props {
  kind: RuleKind;
  name: string;
  rules: Rules;
}

/** How long typing rests before its consequence is asked for, in milliseconds. */
const rest = 100;

/** One object: what it says, to be written; what is worth knowing of it; and what an edit of it would change. */
export function ObjectEditor({ kind, name, rules }: Props) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const { search } = useLocation();
  const saved = useQuery(objectQuery(kind, name));
  const draft = useDraft(kind, name);
  const [failure, setFailure] = useState<Error | null>(null);
  const [saving, setSaving] = useState(false);
  const add = useAdd();
  const { params } = useUrlState();

  const known = saved.error
    ? undefined
    : saved.data?.kind === kind && saved.data.name === name
      ? saved.data
      : undefined;
  const fresh = draft?.base === "absent";
  const now = known?.object as RuleObject | undefined;
  const changed = draft !== undefined && (fresh || !now || !same(draft.object, now));
  const operations = changed ? operationsOf(draft) : [];
  const text = JSON.stringify({ operations, wiring: draft?.wiring ?? [] });
  const settled = useSettled(text, rest);
  const tried = useQuery({
    ...tryQuery(JSON.parse(settled) as { operations: Operation[] }),
    placeholderData: (last) => last,
  });

  // Somebody else may have saved the same.
  const settledElsewhere = draft !== undefined && !fresh && known !== undefined && !changed;
  useEffect(() => {
    if (settledElsewhere) dropDraft(kind, name);
  }, [settledElsewhere, kind, name]);

  // Others in the same draft see what one has open.
  const w = useWhere();
  const inDraft = w.kind === "draft" ? w.id : 0;
  useEffect(() => {
    if (inDraft > 0) void openInDraft(inDraft, `${kind}/${name}`).catch(() => undefined);
  }, [inDraft, kind, name]);
  useEffect(() => {
    if (inDraft === 0) return undefined;
    return () => void openInDraft(inDraft, "").catch(() => undefined);
  }, [inDraft]);

  if (!known && !draft) {
    if (saved.isPending) return <div className="flex-1" />;
    return <Missing kind={kind} name={name} onAdd={() => void add(kind, { name })} />;
  }
  const object = draft?.object ?? now;
  if (!object) return null;

  const at = `operations[${operations.length - 1}].object`;
  const problemAt = (field: string): Schemas["FieldProblem"] | undefined => {
    if (!changed) return undefined;
    const full = field === "" ? at : `${at}.${field}`;
    for (const error of [failure, tried.error]) {
      const found = error instanceof ApiProblem ? error.at(full) : undefined;
      if (found) return found;
    }
    return tried.data?.refused.find((r) => r.at === full);
  };
  const begun = (): Draft =>
    draftNow(kind, name) ?? {
      kind,
      name,
      object,
      base: known?.base ?? "absent",
      revision: known?.revision ?? 0,
      along: [],
      wiring: [],
    };
  const write = (next: RuleObject) => {
    setFailure(null);
    if (now && !fresh && same(next, now) && begun().along.length === 0) dropDraft(kind, name);
    else keepDraft({ ...begun(), object: next });
  };
  const discard = () => {
    dropDraft(kind, name);
    setFailure(null);
    if (fresh) void navigate({ pathname: "/rules", search });
  };
  const save = async () => {
    if (!draft) return;
    setSaving(true);
    try {
      await postEdit({ operations, wiring: draft.wiring }, draft.revision);
      dropDraft(kind, name);
      setFailure(null);
      await queries.invalidateQueries({ queryKey: everything });
      if (draft.object.name !== name) {
        void navigate({ pathname: addressOf(kind, draft.object.name), search }, { replace: true });
      }
    } catch (error) {
      setFailure(error as Error);
      await queries.invalidateQueries({ queryKey: everything });
    } finally {
      setSaving(false);
    }
  };
  const conflict = changed && !fresh && known !== undefined && draft.base !== known.base;
  const about = changed ? (tried.data?.about ?? known?.about) : known?.about;

  return (
    <section aria-label={`${capital(kinds[kind].one)} ${name}`} className="flex min-w-0 flex-1 flex-col">
      <div className="flex min-h-0 flex-1">
        <div className="min-w-0 flex-1 overflow-y-auto px-7 py-5">
          <Header
            kind={kind}
            object={object}
            fresh={fresh}
            problem={problemAt("name")}
            onWrite={write}
            onCopy={() => void add(kind, copied(object), "copy")}
          />
          <Editor
            kind={kind}
            object={object}
            rules={rules}
            along={draft?.along ?? []}
            problemAt={problemAt}
            onWrite={write}
            onAlong={(op) => keepDraft({ ...begun(), along: [...begun().along, op] })}
          />
          <OtherProblem problem={problemAt("")} />
        </div>
        <Facts
          beside={isAsked(questionOf(params))}
          kind={kind}
          name={name}
          object={object}
          about={about}
          usedBy={known?.usedBy ?? []}
          saved={!fresh}
        />
      </div>
      {changed && (
        <Strip
          consequence={tried.data}
          problem={tried.error}
          failure={conflict ? null : failure}
          waiting={settled !== text || tried.isFetching}
          saving={saving}
          along={draft.along}
          noun={kinds[kind].one}
          theirs={conflict ? theirs(kind, known.object as RuleObject) : null}
          verb={fresh ? `Add ${kinds[kind].one}` : "Save"}
          onRemedy={(way) => keepDraft(withRemedy(draft, way))}
          onRebase={() => {
            setFailure(null);
            if (known) keepDraft({ ...draft, base: known.base, revision: known.revision });
          }}
          onSave={() => void save()}
          onDiscard={discard}
        />
      )}
    </section>
  );
}

/** What somebody else made of an object, in one line. */
const theirs = (kind: RuleKind, object: RuleObject) =>
  `${object.enabled === false ? "switched off · " : ""}${says(kind, object)}`;

/** A draft with a fix of its refusal: other addresses stand in the share itself, all else is made beside it. */
function withRemedy(draft: Draft, way: Schemas["Remedy"]): Draft {
  const own = (e: WiringEdit) => draft.kind === "share" && e.op === "show" && e.name === draft.object.name;
  const shown = way.edits
    .filter(own)
    .map((e) => ({ inside: e.prefix, outside: e.outside, segment: e.segment }));
  const object = { ...draft.object };
  if (shown.length > 0) object.show = [...((object.show as unknown[] | undefined) ?? []), ...shown];
  return { ...draft, object, wiring: [...draft.wiring, ...way.edits.filter((e) => !own(e))] };
}

/** A copy under a name of its own; what is unique of a pool, its firewalls, is left out. */
function copied(object: RuleObject): RuleObject {
  const copy = structuredClone(object);
  if (Array.isArray(copy.firewalls)) copy.firewalls = [];
  return copy;
}

interface HeaderProps {
  kind: RuleKind;
  object: RuleObject;
  fresh: boolean;
  problem: Schemas["FieldProblem"] | undefined;
  onWrite: (object: RuleObject) => void;
  onCopy: () => void;
}

function Header({ kind, object, fresh, problem, onWrite, onCopy }: HeaderProps) {
  const [asks, setAsks] = useState<"" | "rename" | "delete">("");
  const guardrail = object.tier === "guardrail";
  return (
    <header>
      <div className="flex items-center gap-3">
        {fresh ? (
          <input
            aria-label="Name"
            aria-invalid={problem !== undefined}
            value={object.name}
            autoFocus
            onFocus={(event) => event.target.select()}
            onChange={(event) => onWrite({ ...object, name: event.target.value })}
            spellCheck={false}
            className="min-w-0 flex-1 rounded border border-line bg-sheet px-2 font-serif text-[22px] font-semibold aria-invalid:border-denied"
          />
        ) : (
          <h1 className="min-w-0 truncate font-serif text-[22px] font-semibold">{object.name}</h1>
        )}
        <span className="flex-none text-soft">{guardrail ? "guardrail" : kinds[kind].one}</span>
        {kinds[kind].switches && (
          <label className="ml-auto flex flex-none items-center gap-2 text-sm">
            <Switch.Root
              checked={object.enabled !== false}
              onCheckedChange={(enabled) => onWrite(withSwitch(object, enabled))}
              aria-label="Enabled"
              className="h-5 w-9 rounded-full border border-line bg-wash data-[state=checked]:border-accent data-[state=checked]:bg-accent"
            >
              <Switch.Thumb className="block size-4 translate-x-0.5 rounded-full bg-soft transition-transform data-[state=checked]:translate-x-[17px] data-[state=checked]:bg-sheet" />
            </Switch.Root>
            {object.enabled === false ? "off" : "on"}
          </label>
        )}
        {!fresh && (
          <span className={`flex flex-none gap-1 ${kinds[kind].switches ? "" : "ml-auto"}`}>
            <Tool label="Rename" onClick={() => setAsks("rename")}>
              <Pencil size={14} />
            </Tool>
            <Tool label="Copy" onClick={onCopy}>
              <Copy size={14} />
            </Tool>
            <Tool label="Delete" onClick={() => setAsks("delete")}>
              <Trash2 size={14} />
            </Tool>
          </span>
        )}
      </div>
      {problem && (
        <p role="alert" className="pt-0.5 text-[13px] text-denied">
          {problem.message}
          {problem.fix && <>; {problem.fix}</>}
        </p>
      )}
      <input
        aria-label="Description"
        placeholder="description"
        value={object.description ?? ""}
        onChange={(event) => onWrite(withText(object, "description", event.target.value))}
        className="mt-1 w-full rounded border border-transparent bg-transparent px-1 text-soft hover:border-line focus:border-line"
      />
      {asks === "rename" && <RenameOverlay kind={kind} name={object.name} onClose={() => setAsks("")} />}
      {asks === "delete" && <DeleteOverlay kind={kind} name={object.name} onClose={() => setAsks("")} />}
    </header>
  );
}

function withSwitch(object: RuleObject, enabled: boolean): RuleObject {
  const next = { ...object };
  if (enabled) delete next.enabled;
  else next.enabled = false;
  return next;
}

function withText(object: RuleObject, key: string, text: string): RuleObject {
  const next = { ...object };
  if (text === "") delete next[key];
  else next[key] = text;
  return next;
}

function Tool({ label, onClick, children }: { label: string; onClick: () => void; children: ReactNode }) {
  return (
    <button
      aria-label={label}
      title={label}
      onClick={onClick}
      className="rounded border border-line p-1.5 text-soft hover:border-accent hover:text-ink"
    >
      {children}
    </button>
  );
}

function OtherProblem({ problem }: { problem: Schemas["FieldProblem"] | undefined }) {
  if (!problem) return null;
  return (
    <p role="alert" className="mt-3 text-[13px] text-denied">
      {capital(problem.message)}
      {problem.fix && <>; {problem.fix}</>}
    </p>
  );
}

function Missing({ kind, name, onAdd }: { kind: RuleKind; name: string; onAdd: () => void }) {
  return (
    <div className="flex-1 p-7">
      <p>
        There is no {kinds[kind].one} <strong>{name}</strong>.
      </p>
      <button className="mt-3 rounded border border-line px-3 py-1 hover:border-accent" onClick={onAdd}>
        Add {kinds[kind].one} {name}
      </button>
    </div>
  );
}
