import { ArrowLeftRight, ArrowRight, X } from "lucide-react";
import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import type { Rules } from "../kinds";
import type { EditorProps, ProblemAt } from "./Editor";
import { Problem, SideField, withKey } from "./parts";
import { RuleList } from "./RuleList";
import { Terms } from "./Terms";

type Share = Schemas["Share"];

/** A share: the side that is offered beside the side that reaches it, and its rules. */
export function ShareEditor({ object: s, rules, problemAt, onWrite, onMake }: EditorProps<Share>) {
  const both = s.direction === "both";
  const side = (which: "guest" | "owner") => (
    <PartyBox
      title={which === "owner" ? "Offered by" : "Reached from"}
      which={which}
      value={s[which]}
      rules={rules}
      problemAt={problemAt}
      onChange={(value) => onWrite({ ...s, [which]: value })}
      onMake={onMake}
    />
  );
  return (
    <>
      <div className="grid grid-cols-[1fr_auto_1fr] items-center gap-3">
        {side("guest")}
        <button
          aria-label={
            both ? "both ways: both sides may open flows" : "one way: only the guest may open flows"
          }
          title={both ? "both sides may open flows" : "only the guest may open flows"}
          onClick={() => onWrite(both ? withKey(s, "direction", undefined) : { ...s, direction: "both" })}
          className="flex flex-col items-center rounded border border-line px-2 py-1 text-xs text-soft hover:border-accent"
        >
          {both ? <ArrowLeftRight size={18} /> : <ArrowRight size={18} />}
          {both ? "both ways" : "one way"}
        </button>
        {side("owner")}
      </div>
      <Problem at={["owner", "guest", "direction", "rules"]} problemAt={problemAt} />
      <RuleList
        rules={s.rules}
        all={rules}
        actions={["allow", "inspect", "deny"]}
        problemAt={problemAt}
        onChange={(list) => onWrite({ ...s, rules: list })}
        onMake={onMake}
      />
      {s.show && s.show.length > 0 && (
        <>
          <h2 className="pt-4 font-semibold">Shown under other addresses</h2>
          <table aria-label="Other addresses" className="mt-1 w-full text-[13px]">
            <tbody>
              {s.show.map((t, i) => (
                <tr key={`${t.segment} ${t.inside}`} className="border-t border-line">
                  <td className="py-1 font-mono">{t.inside}</td>
                  <td className="text-soft">of {t.segment} as</td>
                  <td className="font-mono">{t.outside}</td>
                  <td className="text-right">
                    <button
                      aria-label={`Remove other addresses of ${t.inside}`}
                      className="text-soft hover:text-denied"
                      onClick={() =>
                        onWrite(
                          withKey(
                            s,
                            "show",
                            s.show?.filter((_, k) => k !== i),
                          ),
                        )
                      }
                    >
                      <X size={13} />
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      <div className="mt-4">
        <Terms of="the share" value={s} problemAt={problemAt} onChange={onWrite} />
      </div>
      <p className="mt-4 text-[13px] text-soft">
        What the owner offers is added to the guest’s route tables, marked as shared. Everything else between
        the two segments stays closed.
      </p>
    </>
  );
}

interface PartyProps {
  title: string;
  which: string;
  value: Schemas["Party"];
  rules: Rules;
  problemAt: ProblemAt;
  onChange: (value: Schemas["Party"]) => void;
  onMake: EditorProps<unknown>["onMake"];
}

/** A segment, and the endpoints of it that are meant. */
export function PartyBox({ title, which, value, rules, problemAt, onChange, onMake }: PartyProps) {
  return (
    <section
      aria-label={title}
      className="flex flex-col gap-2 self-stretch rounded-md border border-line px-3 py-2.5"
    >
      <h2 className="text-[13px] text-soft">{title}</h2>
      <Choose
        label={`Segment of ${which}`}
        bold
        value={value.segment}
        values={rules.segments.map((x) => x.name)}
        placeholder="segment"
        onChange={(segment) => onChange({ ...value, segment })}
      />
      <SideField
        id={`groups-${which}`}
        label={`groups of ${which}`}
        value={value.groups}
        any={`the whole segment ${value.segment}`}
        at={`${which}.groups`}
        rules={rules}
        problemAt={problemAt}
        onChange={(groups) => onChange({ ...value, groups })}
        onMake={onMake}
      />
      <Problem at={[`${which}.segment`]} problemAt={problemAt} />
    </section>
  );
}
