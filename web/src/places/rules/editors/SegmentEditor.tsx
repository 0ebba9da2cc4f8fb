import { useQuery } from "@tanstack/react-query";
import { peopleQuery } from "../../../api/people";
import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import { TokenField } from "../TokenField";
import type { EditorProps } from "./Editor";
import { Line, Sentence, withKey } from "./parts";

type Segment = Schemas["Segment"];

/** For which changes of a segment's flows an owner must approve. */
const asks = {
  none: "no change of its flows",
  opened: "flows that are opened, or pass fewer firewalls",
  any: "any change of its flows",
} as const;

/** A segment: what happens inside it where no policy decides. */
export function SegmentEditor({ object: s, problemAt, onWrite }: EditorProps<Segment>) {
  const people = useQuery(peopleQuery);
  const owners = [
    ...(people.data?.teams ?? []).map((t) => ({ text: t.name, hint: "team", kind: "" })),
    ...(people.data?.people ?? []).map((p) => ({ text: p.name, hint: p.called, kind: "" })),
  ];
  return (
    <>
      <Sentence>
        <Line word="Where no policy">
          <span className="flex flex-wrap items-start gap-2">
            <span className="pt-0.5 text-soft italic">decides, flows inside it are</span>
            <Choose
              label="Default"
              bold
              value={s.default === "allow" ? "allowed" : "denied"}
              values={["denied", "allowed"]}
              onChange={(v) => onWrite(withKey(s, "default", v === "allowed" ? "allow" : undefined))}
            />
          </span>
        </Line>
        <Line word="Owners">
          <TokenField
            id="owners"
            label="owners"
            tokens={s.owners ?? []}
            choices={owners}
            placeholder="person or team"
            problem={(i) => problemAt(`owners[${i}]`)}
            onChange={(owners) => onWrite(withKey(s, "owners", owners.length > 0 ? owners : undefined))}
          />
        </Line>
        <Line word="approve">
          <Choose
            label="Approval"
            value={asks[s.approval ?? "none"]}
            values={Object.values(asks)}
            onChange={(v) =>
              onWrite(
                withKey(s, "approval", v === asks.opened ? "opened" : v === asks.any ? "any" : undefined),
              )
            }
          />
        </Line>
      </Sentence>
      <p className="mt-4 text-[13px] text-soft">
        Networks are placed in segments on Lanes. Between segments nothing passes unless a share says so.
      </p>
    </>
  );
}
