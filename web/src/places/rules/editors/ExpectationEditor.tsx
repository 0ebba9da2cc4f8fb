import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import type { EditorProps } from "./Editor";
import { Line, Problem, Sentence, ServicesField, SideField, withKey } from "./parts";

type Expectation = Schemas["Expectation"];

const expects = ["denied", "delivered", "allowed", "inspected"] as const;

/** A statement about flows that must hold. */
export function ExpectationEditor({
  object: x,
  rules,
  problemAt,
  onWrite,
  onMake,
}: EditorProps<Expectation>) {
  const end = (which: "from" | "to") => {
    const value = x[which];
    return (
      <Line word={which}>
        <span className="inline-flex flex-wrap items-start gap-2">
          <Choose
            label={`${which} segment`}
            value={value === "internet" ? "internet" : value.segment}
            values={["internet", ...rules.segments.map((s) => s.name)]}
            onChange={(segment) =>
              onWrite({
                ...x,
                [which]:
                  segment === "internet"
                    ? "internet"
                    : { segment, groups: value === "internet" ? "any" : value.groups },
              })
            }
          />
          {value !== "internet" && (
            <SideField
              id={`groups-${which}`}
              label={`${which} groups`}
              value={value.groups}
              any="the whole segment"
              at={`${which}.groups`}
              rules={rules}
              problemAt={problemAt}
              onChange={(groups) => onWrite({ ...x, [which]: { ...value, groups } })}
              onMake={onMake}
            />
          )}
        </span>
      </Line>
    );
  };
  return (
    <>
      <Sentence>
        {end("from")}
        {end("to")}
        <Line word="on">
          <ServicesField
            id="services"
            label="services"
            value={x.services}
            at="services"
            rules={rules}
            problemAt={problemAt}
            onChange={(services) => onWrite({ ...x, services })}
            onMake={onMake}
          />
        </Line>
        <Line word="must be">
          <Choose
            label="Expected outcome"
            bold
            value={x.expect}
            values={[...expects]}
            onChange={(expect) => {
              const next = { ...x, expect: expect as Expectation["expect"] };
              onWrite(expect === "inspected" ? next : withKey(next, "pool", undefined));
            }}
          />
          {x.expect === "inspected" && (
            <>
              <span className="pt-0.5 text-soft italic">by</span>
              <Choose
                label="Pool"
                value={x.pool ?? "any pool"}
                values={["any pool", ...rules.pools.map((p) => p.name)]}
                onChange={(pool) => onWrite(withKey(x, "pool", pool === "any pool" ? undefined : pool))}
              />
            </>
          )}
        </Line>
      </Sentence>
      <Problem at={["from", "to", "from.segment", "to.segment", "services", "pool"]} problemAt={problemAt} />
      <p className="mt-4 text-[13px] text-soft">
        “Delivered” is allowed or inspected. “Denied” holds for blocked flows and for those without a path,
        too.
      </p>
    </>
  );
}
