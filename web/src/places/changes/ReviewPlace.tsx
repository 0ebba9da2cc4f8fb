import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowRight, Printer } from "lucide-react";
import { useRef, useState } from "react";
import { useParams } from "react-router";
import type { Schemas } from "../../api/client";
import {
  applyDraft,
  approveDraft,
  decideConflict,
  describeDraft,
  draftQuery,
  moveDraft,
} from "../../api/drafts";
import type { DraftReview } from "../../api/drafts";
import { applyingQuery, previewQuery } from "../../api/plans";
import { meQuery } from "../../api/people";
import type { Self } from "../../api/people";
import { everything } from "../../api/queries";
import { lookAt } from "../../frame/where";
import { stateWords } from "../../frame/WhereStrip";
import { ConsequenceView, problemText } from "../../parts/ConsequenceView";
import { Button, Field } from "../../parts/fields";
import { RoadMark } from "../../parts/marks/RoadMark";
import { Overlay } from "../../parts/Overlay";
import { Sentence } from "../../parts/Sentence";
import { capital, sentence, counted, moment, serviceWords } from "../../parts/wording";
import { Tabs } from "./ChangesPlace";
import { Comments } from "./Comments";
import { FindingChanges } from "./FindingChanges";
import { linesOf } from "./lines";
import { RebasedNote } from "./RebasedNote";
import { Objects } from "./Objects";
import { PlanView } from "./PlanView";

/** Everything about a draft, to be reviewed, approved and applied. */
export function ReviewPlace() {
  const id = Number(useParams().id);
  const draft = useQuery(draftQuery(id));
  const me = useQuery(meQuery);
  // The head waits for it: a button that moves while it is pressed is a button missed.
  const applying = useQuery(applyingQuery);
  return (
    <section aria-label="Review" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <Tabs />
      {draft.error && <p className="pt-4 text-denied">{draft.error.message}</p>}
      {draft.isPending && <p className="pt-4 text-soft">Computing what the draft changes…</p>}
      {draft.data?.id === id && me.data && !applying.isPending && <Review d={draft.data} me={me.data} />}
    </section>
  );
}

function Review({ d, me }: { d: DraftReview; me: Self }) {
  const [about, setAbout] = useState("");
  const talk = useRef<HTMLDivElement>(null);
  const begin = (topic: string) => {
    setAbout(topic);
    talk.current?.scrollIntoView({ block: "nearest" });
    talk.current?.querySelector("input")?.focus();
  };
  const closed = d.state === "applied" || d.state === "discarded";
  return (
    <>
      <Head d={d} me={me} />
      {d.rebased && <RebasedNote rebased={d.rebased} />}
      {d.conflicts.length > 0 && <Conflicts d={d} may={me.roles.includes("engineer")} />}
      {d.consequence.refused.length > 0 && !closed && (
        <div role="alert" className="my-2 border-l-[3px] border-denied bg-denied/8 px-3 py-2">
          <p className="font-semibold text-denied">
            It cannot be applied: it brings {counted(d.consequence.refused.length, "fault")}
          </p>
          {d.consequence.refused.slice(0, 5).map((r) => (
            <p key={r.message} className="pt-1">
              {capital(r.message)} <span className="text-soft">How to fix it: {r.fix}</span>
            </p>
          ))}
        </div>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-x-10 max-[1000px]:grid-cols-1 print:block">
        <div>
          <h2 className="pt-4 pb-1 font-serif text-[17px] font-semibold">Who must approve</h2>
          <WhoMustApprove d={d} />
          <h2 className="pt-5 pb-1 font-serif text-[17px] font-semibold">What changes in the rules</h2>
          <Objects objects={d.objects} comments={d.comments} onComment={begin} />
          {!closed && <FindingChanges d={d} />}
          <h2 className="pt-5 pb-1 font-serif text-[17px] font-semibold">Comments</h2>
          <div ref={talk}>
            <Comments d={d} about={about} onAbout={setAbout} />
          </div>
        </div>
        <div>
          <h2 className="pt-4 pb-1 font-serif text-[17px] font-semibold">What changes for flows</h2>
          <ConsequenceView consequence={{ ...d.consequence, refused: [] }} asks />
        </div>
      </div>
      {!closed && d.consequence.refused.length === 0 && d.conflicts.length === 0 && <Preview d={d} />}
      <Steps d={d} />
    </>
  );
}

/** What applying the draft would write to hubs, clouds and premises. */
function Preview({ d }: { d: DraftReview }) {
  const [open, setOpen] = useState(false);
  const applying = useQuery(applyingQuery);
  const plan = useQuery({ ...previewQuery(d.id), enabled: open });
  if (!applying.data || applying.data.state === "unconnected") return null;
  return (
    <section aria-label="Plan" className="pt-5">
      <div className="flex items-center gap-3 pb-1">
        <h2 className="font-serif text-[17px] font-semibold">What is written to targets</h2>
        <Button
          disabled={plan.isFetching}
          onClick={() => (open ? void plan.refetch() : setOpen(true))}
          aria-expanded={open}
        >
          {plan.isFetching ? "Reading the targets…" : open ? "Plan again" : "Show the plan"}
        </Button>
      </div>
      {plan.error && (
        <p role="alert" className="text-denied">
          {problemText(plan.error)}
        </p>
      )}
      {open && plan.data && <PlanView plan={plan.data} live={false} />}
    </section>
  );
}

function useDraftAction<T>(id: number, act: (value: T) => Promise<unknown>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSettled: async () => {
      await queries.invalidateQueries({ queryKey: ["drafts"] });
      await queries.invalidateQueries({ queryKey: ["drafts", id] });
      await queries.invalidateQueries({ queryKey: ["revisions"] });
      await queries.invalidateQueries({ queryKey: everything });
    },
  });
}

function Head({ d, me }: { d: DraftReview; me: Self }) {
  const [asks, setAsks] = useState<"" | "describe" | "emergency">("");
  const move = useDraftAction(d.id, (state: "open" | "review" | "discarded") => moveDraft(d.id, state));
  const approve = useDraftAction(d.id, () => approveDraft(d.id, d.version));
  const [staged, setStaged] = useState(false);
  const applying = useQuery(applyingQuery);
  const apply = useDraftAction(d.id, async (emergency: string) => {
    await applyDraft(d.id, d.version, emergency, staged);
    lookAt({ kind: "applied" });
  });
  const writes = me.roles.includes("engineer");
  const applies = me.roles.includes("operator");
  const closed = d.state === "applied" || d.state === "discarded";
  const waits = d.asked.some((a) => !a.approved);
  const mine = d.asked.filter((a) => a.may);
  const error = move.error ?? approve.error ?? apply.error;
  return (
    <header className="pt-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="font-serif text-[22px] font-semibold">{d.name}</h1>
        <span className="rounded border border-line px-2 text-[13px]" data-testid="state">
          {stateWords[d.state]}
          {d.revision > 0 && ` as revision ${d.revision}`}
        </span>
        {d.ticket && <span className="text-soft">{d.ticket}</span>}
        <span className="flex-1" />
        <span className="flex flex-wrap gap-2 print:hidden">
          {writes && !closed && <Button onClick={() => setAsks("describe")}>Name and reason…</Button>}
          {writes && (d.state === "open" || d.state === "review") && (
            <Button onClick={() => move.mutate("discarded")}>Discard draft</Button>
          )}
          {writes && d.state === "discarded" && (
            <Button onClick={() => move.mutate("open")}>Reopen draft</Button>
          )}
          {writes && (d.state === "review" || d.state === "approved") && (
            <Button onClick={() => move.mutate("open")}>Withdraw from review</Button>
          )}
          {writes && d.state === "open" && d.steps > 0 && (
            <Button main={waits} disabled={move.isPending} onClick={() => move.mutate("review")}>
              Submit for review
            </Button>
          )}
          {mine.length > 0 && d.state === "review" && (
            <Button main disabled={approve.isPending} onClick={() => approve.mutate(undefined)}>
              Approve for {mine.map((a) => a.segment).join(", ")}
            </Button>
          )}
          {applies &&
            !closed &&
            (waits || d.outside !== "") &&
            d.conflicts.length === 0 &&
            d.consequence.refused.length === 0 && (
              <Button onClick={() => setAsks("emergency")}>
                {waits ? "Apply without approval…" : "Apply in an emergency…"}
              </Button>
            )}
          {applies && !closed && applying.data && applying.data.state !== "unconnected" && (
            <label
              className="flex items-center gap-1.5 text-[13px]"
              title="Test packets are sent after each step; if one differs from the prediction, the change is rolled back"
            >
              <input type="checkbox" checked={staged} onChange={(e) => setStaged(e.target.checked)} />
              in stages, with test packets
            </label>
          )}
          {applies && !closed && (
            <Button
              main
              disabled={d.canApply !== "" || apply.isPending}
              title={d.canApply}
              onClick={() => apply.mutate("")}
            >
              {apply.isPending ? "Applying…" : "Apply draft"}
            </Button>
          )}
          <Button aria-label="Print" onClick={() => window.print()}>
            <Printer size={14} className="inline" />
          </Button>
        </span>
      </div>
      <p className="pt-1 text-soft">
        {d.reason ? sentence(d.reason) : "No reason is given yet."} Written by{" "}
        {(d.authors.length > 0 ? d.authors : [d.author]).join("; ")}.
        {!closed && ` It stands on revision ${d.applied} of the applied estate.`}
        {d.undoes > 0 && ` It rolls back revision ${d.undoes}.`}
      </p>
      {!closed && d.canApply && (
        <p className="pt-1" data-testid="can-apply">
          It cannot be applied yet: {d.canApply}.
        </p>
      )}
      {error && (
        <p role="alert" className="pt-1 text-denied">
          {problemText(error)}
        </p>
      )}
      {asks === "describe" && <Describe d={d} onClose={() => setAsks("")} />}
      {asks === "emergency" && (
        <Emergency d={d} onClose={() => setAsks("")} onApply={(reason) => apply.mutate(reason)} />
      )}
    </header>
  );
}

function Describe({ d, onClose }: { d: DraftReview; onClose: () => void }) {
  const [name, setName] = useState(d.name);
  const [reason, setReason] = useState(d.reason);
  const [ticket, setTicket] = useState(d.ticket);
  const save = useDraftAction(d.id, async () => {
    await describeDraft(d.id, { name, reason, ticket });
    onClose();
  });
  return (
    <Overlay title="Name and reason" onClose={onClose}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(undefined);
        }}
      >
        <Field label="Name" value={name} onChange={(e) => setName(e.target.value)} />
        <Field label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
        <Field label="Ticket" value={ticket} onChange={(e) => setTicket(e.target.value)} />
        {save.error && <p className="text-denied">{problemText(save.error)}</p>}
        <div>
          <Button main type="submit" disabled={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Overlay>
  );
}

function Emergency({
  d,
  onClose,
  onApply,
}: {
  d: DraftReview;
  onClose: () => void;
  onApply: (reason: string) => void;
}) {
  const [reason, setReason] = useState("");
  const segments = d.asked.filter((a) => !a.approved).map((a) => a.segment);
  return (
    <Overlay
      title={segments.length > 0 ? "Apply without approval" : "Apply in an emergency"}
      onClose={onClose}
    >
      <p className="pb-3">
        {segments.length > 0 && <>Owners of {segments.join(", ")} have not approved. </>}
        {d.outside && <>Outside the change window: {d.outside}. </>}
        In an emergency you can apply the draft all the same: it stays marked in the history until an owner
        has reviewed it.
      </p>
      <Field label="Why it cannot wait" value={reason} onChange={(e) => setReason(e.target.value)} />
      <div className="flex gap-2 pt-3">
        <Button
          main
          disabled={reason.trim() === ""}
          onClick={() => {
            onApply(reason);
            onClose();
          }}
        >
          {segments.length > 0 ? "Apply without approval" : "Apply in an emergency"}
        </Button>
        <Button onClick={onClose}>Cancel</Button>
      </div>
    </Overlay>
  );
}

const endWords = (segment: string, words: string[]): string => {
  if (words.includes("*")) return segment === "internet" ? "the internet" : `segment ${segment}`;
  const names = words.filter((w) => w !== "*-").map((w) => w.replace(`${segment}:`, ""));
  const list = names.slice(0, 4).join(", ") + (names.length > 4 ? ` and ${names.length - 4} more` : "");
  return words.includes("*-") ? `all of ${segment} but ${list}` : `${list} (${segment})`;
};

/** The segments whose owners must approve, and the flows because of which they are asked. */
function WhoMustApprove({ d }: { d: DraftReview }) {
  const old = d.approvals.filter((a) => a.why !== "");
  return (
    <>
      {d.asked.length === 0 && (
        <p className="text-soft">
          {d.state === "applied"
            ? "It is applied."
            : "No segment with owners is concerned: no approval is needed."}
        </p>
      )}
      <ul aria-label="Who must approve">
        {d.asked.map((a) => (
          <li key={a.segment} className="border-t border-line py-2">
            <p>
              Segment <strong>{a.segment}</strong>:{" "}
              {a.approved ? (
                <span className="text-allowed">
                  approved by {a.approved.person}, {moment(a.approved.at)}
                </span>
              ) : a.members.length > 0 ? (
                <>
                  {a.members.length > 1 && "one of "}
                  {a.members.join("; ")}
                </>
              ) : (
                <span className="text-denied">
                  {a.owners.length > 0
                    ? `its owners (${a.owners.join(", ")}) are unknown here, or wrote the draft themselves`
                    : "it has no owners; any approver who did not write the draft"}
                </span>
              )}
            </p>
            {a.guard && <p className="text-[13px]">The draft changes who must approve for this segment.</p>}
            {a.flows.length > 0 && (
              <p className="text-[13px] text-soft">Because these flows are opened or change:</p>
            )}
            <ul>
              {a.flows.map((f, i) => (
                <AskedFlow key={i} f={f} />
              ))}
            </ul>
            {a.more > 0 && <p className="text-[13px] text-soft">and {counted(a.more, "more", "more")}</p>}
          </li>
        ))}
      </ul>
      {old.length > 0 && (
        <ul className="pt-1 text-[13px] text-soft">
          {old.map((a, i) => (
            <li key={i}>
              {a.person} approved for {a.segment}; the approval is no longer valid: {a.why}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

function AskedFlow({ f }: { f: Schemas["AskedFlow"] }) {
  return (
    <li className="py-1 text-[13px]">
      <span className="flex items-center gap-2">
        {f.before ? <RoadMark mark={f.before} size={12} /> : <span className="text-soft">new</span>}
        <ArrowRight size={12} className="flex-none text-soft" />
        {f.after ? <RoadMark mark={f.after} size={12} /> : <span className="text-soft">removed</span>}
        <span className="min-w-0">
          {endWords(f.from, f.sources)} → {endWords(f.to, f.destinations)},{" "}
          <span className="font-mono text-xs">{serviceWords(f.services)}</span>
        </span>
      </span>
      {f.imagined ? (
        <span className="block pl-1 text-soft">
          Not as things are today, but once everything is up, or a machine with fitting labels comes.
        </span>
      ) : (
        f.will.length > 0 && (
          <span className="block pl-1 text-soft">
            For example {f.witness?.source} → {f.witness?.destination}: <Sentence tokens={f.will} />
          </span>
        )
      )}
    </li>
  );
}

/** What was changed in the applied estate since the draft was written: decided object by object. */
function Conflicts({ d, may }: { d: DraftReview; may: boolean }) {
  const decide = useDraftAction(d.id, (x: { thing: Schemas["Thing"]; mine: boolean }) =>
    decideConflict(d.id, x.thing, x.mine),
  );
  return (
    <section aria-label="Conflicts" className="my-3 rounded border border-denied px-4 py-3">
      <h2 className="font-serif text-[17px] font-semibold text-denied">
        {counted(d.conflicts.length, "conflict")}
      </h2>
      <p className="text-[13px] text-soft">
        These objects were changed in the applied estate after this draft changed them. Until you decide, the
        draft leaves them as they are applied.
      </p>
      {d.conflicts.map((c) => (
        <div key={`${c.thing.kind} ${c.thing.name}`} className="border-t border-line pt-2 pb-3">
          <p>
            {capital(c.thing.kind)} <strong>{c.thing.name}</strong>{" "}
            <span className="text-[13px] text-soft">{c.why}</span>
          </p>
          <div className="grid grid-cols-3 gap-4 max-[1000px]:grid-cols-1">
            <Version title="As it was" body={c.was} before="" />
            <Version title="As applied now" body={c.now} before={c.was} />
            <Version title="As this draft has it" body={c.mine} before={c.was} />
          </div>
          {may && (
            <div className="flex gap-2 pt-2">
              <Button
                disabled={decide.isPending}
                onClick={() => decide.mutate({ thing: c.thing, mine: false })}
              >
                Keep as applied
              </Button>
              <Button
                disabled={decide.isPending}
                onClick={() => decide.mutate({ thing: c.thing, mine: true })}
              >
                Take the draft’s version
              </Button>
            </div>
          )}
        </div>
      ))}
      {decide.error && <p className="text-denied">{problemText(decide.error)}</p>}
    </section>
  );
}

function Version({ title, body, before }: { title: string; body: string; before: string }) {
  return (
    <div>
      <p className="text-[13px] text-soft">{title}</p>
      {body === "" ? (
        <p>not there</p>
      ) : (
        <pre className="overflow-x-auto rounded bg-wash/60 px-2 py-1 font-mono text-xs leading-[1.45]">
          {linesOf(before || body, body)
            .filter((l) => l.sign !== "-")
            .map((l, i) => (
              <span key={i} className={`block ${l.sign === "+" ? "font-semibold" : "text-soft"}`}>
                {l.text}
              </span>
            ))}
        </pre>
      )}
    </div>
  );
}

function Steps({ d }: { d: DraftReview }) {
  if (d.stepList.length === 0) return null;
  return (
    <>
      <h2 className="pt-5 pb-1 font-serif text-[17px] font-semibold">Steps</h2>
      <ol className="text-[13px]">
        {d.stepList.map((s) => (
          <li key={s.number} className={s.undone ? "text-soft line-through" : ""}>
            {s.number}. {s.words}{" "}
            <span className="text-soft">
              {s.author}, {moment(s.at)}
            </span>
          </li>
        ))}
      </ol>
    </>
  );
}
