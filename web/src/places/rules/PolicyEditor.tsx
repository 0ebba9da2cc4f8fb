import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { Switch } from "radix-ui";
import { useState } from "react";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { effectQuery, everything, savePolicy } from "../../api/queries";
import { useDebounced } from "../../parts/useDebounced";
import { conflicts, edited, keepDraft, loadDraft, samePolicy } from "./draft";
import type { Draft, Edit } from "./draft";
import { EffectStrip } from "./EffectStrip";
import { RuleRow } from "./RuleRow";
import { TokenField } from "./TokenField";

interface Props {
  view: Schemas["PolicyView"];
  estate: Schemas["Estate"];
}

/** How long typing rests before its effect is asked for, in milliseconds. */
const rest = 120;

/** A policy as sentences whose parts are tokens, with the effect of an edit below. */
export function PolicyEditor({ view, estate }: Props) {
  const queries = useQueryClient();
  const [draft, setDraft] = useState<Draft | null>(() => loadDraft(view.policy.name));
  const [failure, setFailure] = useState<Error | null>(null);
  const [saving, setSaving] = useState(false);
  const policy = draft?.policy ?? view.policy;
  const changed = draft !== null && !samePolicy(draft.policy, view.policy);
  const settled = useDebounced(policy, rest);
  const effect = useQuery(effectQuery(settled, changed));
  const conflict = draft !== null && conflicts(draft, view.policy);

  const problems =
    changed && effect.error instanceof ApiProblem
      ? effect.error
      : failure instanceof ApiProblem
        ? failure
        : null;
  const problemAt = (at: string) => problems?.at(at);

  const change = (edit: Edit) => {
    const next = { policy: edited(policy, edit), base: draft?.base ?? view.policy };
    const kept = samePolicy(next.policy, view.policy) ? null : next;
    keepDraft(view.policy.name, kept);
    setDraft(kept);
    setFailure(null);
  };
  const discard = () => {
    keepDraft(view.policy.name, null);
    setDraft(null);
    setFailure(null);
  };
  const rebase = () => {
    if (!draft) return;
    const next = { policy: draft.policy, base: view.policy };
    keepDraft(view.policy.name, next);
    setDraft(next);
    setFailure(null);
  };
  const save = async () => {
    if (!draft) return;
    setSaving(true);
    try {
      await savePolicy(draft.policy, view.revision);
      await queries.invalidateQueries({ queryKey: everything });
      discard();
    } catch (error) {
      setFailure(error as Error);
      await queries.invalidateQueries({ queryKey: everything });
    } finally {
      setSaving(false);
    }
  };

  const groups = estate.groups.map((g) => ({ text: g.name, hint: g.hint, kind: "group" }));
  const segments = estate.segments.map((s) => ({ text: s.name, hint: s.hint, kind: "segment" }));
  const guardrail = policy.tier === "guardrail";
  return (
    <section aria-label={`Policy ${policy.name}`} className="flex min-w-0 flex-1 flex-col">
      <div className="min-h-0 flex-1 overflow-y-auto px-7 py-5">
        <header className="flex items-center gap-4">
          <h1 className="font-serif text-[22px] font-semibold">{policy.name}</h1>
          <label className="flex items-center gap-2 text-sm">
            <Switch.Root
              checked={policy.enabled !== false}
              onCheckedChange={(enabled) => change({ type: "enable", enabled })}
              aria-label="Enabled"
              className="h-5 w-9 rounded-full border border-line bg-wash data-[state=checked]:border-accent data-[state=checked]:bg-accent"
            >
              <Switch.Thumb className="block size-4 translate-x-0.5 rounded-full bg-soft transition-transform data-[state=checked]:translate-x-[17px] data-[state=checked]:bg-sheet" />
            </Switch.Root>
            {policy.enabled === false ? "off: it does not apply" : "on"}
          </label>
        </header>
        {policy.description && <p className="mt-0.5 text-soft">{policy.description}</p>}

        <div className="mt-5 flex max-w-[60rem] flex-col gap-3 font-serif text-[16px]">
          {guardrail ? (
            <>
              <Scope
                id="from-segments"
                word="From segments"
                label="from segments"
                value={policy.fromSegments}
                choices={segments}
                problem={(i) => problemAt(`fromSegments[${i}]`)}
                onChange={(value) => change({ type: "scope", scope: "fromSegments", value })}
              />
              <Scope
                id="to-segments"
                word="to segments"
                label="to segments"
                value={policy.toSegments}
                choices={segments}
                problem={(i) => problemAt(`toSegments[${i}]`)}
                onChange={(value) => change({ type: "scope", scope: "toSegments", value })}
              />
            </>
          ) : (
            <Scope
              id="segments"
              word="In"
              label="segments"
              value={policy.segments}
              choices={segments}
              problem={(i) => problemAt(`segments[${i}]`)}
              onChange={(value) => change({ type: "scope", scope: "segments", value })}
            />
          )}
          {(["from", "to"] as const).map((side) => (
            <Line key={side} word={side}>
              <TokenField
                id={`side-${side}`}
                label={`${side} groups`}
                tokens={listOf(policy[side], "any")}
                choices={[
                  ...groups,
                  {
                    text: "any",
                    hint: guardrail ? "every endpoint" : "every endpoint inside; never the internet",
                    kind: "",
                  },
                ]}
                placeholder="group"
                problem={(i) => problemAt(`${side}[${i}]`)}
                onChange={(tokens) =>
                  change({
                    type: "side",
                    side,
                    value:
                      tokens.includes("any") && tokens.at(-1) === "any"
                        ? "any"
                        : tokens.filter((t) => t !== "any"),
                  })
                }
              />
            </Line>
          ))}
        </div>

        <ol className="mt-6 flex max-w-[60rem] flex-col gap-2.5">
          {policy.rules.map((rule, i) => (
            <RuleRow
              key={i}
              rule={rule}
              index={i}
              count={policy.rules.length}
              guardrail={guardrail}
              estate={estate}
              problemAt={problemAt}
              onEdit={change}
            />
          ))}
        </ol>
        <button
          className="mt-3 inline-flex items-center gap-1.5 text-accent hover:underline"
          onClick={() => change({ type: "add" })}
        >
          <Plus size={14} /> another rule
        </button>
        <p className="mt-4 text-[13px] text-soft">
          The first rule that includes the service decides. Flows that no rule includes are not affected by
          this policy.
        </p>
      </div>
      {changed && (
        <EffectStrip
          effect={effect.data}
          problem={effect.error}
          failure={failure}
          waiting={settled !== policy || effect.isFetching}
          saving={saving}
          theirs={conflict ? view.policy : null}
          onRebase={rebase}
          onSave={() => void save()}
          onDiscard={discard}
        />
      )}
    </section>
  );
}

/** The tokens of a side or scope: its names, or the one word for all. */
function listOf(value: string | string[] | undefined, word: string): string[] {
  if (value === undefined) return [word];
  return typeof value === "string" ? [value] : value;
}

function Line({ word, children }: { word: string; children: React.ReactNode }) {
  return (
    <div className="flex items-start gap-2.5">
      <span className="w-28 flex-none pt-0.5 text-right text-soft italic">{word}</span>
      {children}
    </div>
  );
}

interface ScopeProps {
  id: string;
  word: string;
  label: string;
  value: Schemas["Scope"] | undefined;
  choices: { text: string; hint: string; kind: string }[];
  problem: (index: number) => Schemas["FieldProblem"] | undefined;
  onChange: (value: Schemas["Scope"]) => void;
}

function Scope({ id, word, label, value, choices, problem, onChange }: ScopeProps) {
  return (
    <Line word={word}>
      <TokenField
        id={id}
        label={label}
        tokens={listOf(value, "all")}
        choices={[...choices, { text: "all", hint: "every segment", kind: "" }]}
        placeholder="segment"
        problem={problem}
        onChange={(tokens) => onChange(tokens.at(-1) === "all" ? "all" : tokens.filter((t) => t !== "all"))}
      />
    </Line>
  );
}
