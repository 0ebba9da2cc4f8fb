import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import { TokenField } from "../TokenField";
import type { EditorProps } from "./Editor";
import { Line, Problem, segmentChoices, Sentence, withKey } from "./parts";

type Exit = Schemas["Exit"];

/** An exit: the way of some segments to the internet, at a hub. */
export function ExitEditor({ object: x, rules, problemAt, onWrite }: EditorProps<Exit>) {
  return (
    <>
      <Sentence>
        <Line word="At hub">
          <Choose
            label="Hub"
            value={x.hub}
            values={rules.hubs}
            placeholder="hub"
            onChange={(hub) => onWrite({ ...x, hub })}
          />
        </Line>
        <Line word="for segments">
          <TokenField
            id="segments"
            label="segments"
            tokens={x.segments}
            choices={segmentChoices(rules)}
            placeholder="segment"
            problem={(i) => problemAt(`segments[${i}]`)}
            onChange={(segments) => onWrite({ ...x, segments })}
          />
        </Line>
        <Line word="which is">
          <Choose
            label="State"
            value={x.state ?? "up"}
            values={["up", "down"]}
            onChange={(v) => onWrite(withKey(x, "state", v === "up" ? undefined : "down"))}
          />
        </Line>
      </Sentence>
      <Problem at={["hub", "segments"]} problemAt={problemAt} />
    </>
  );
}
