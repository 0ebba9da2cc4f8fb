import type { Schemas } from "../../../api/client";
import { serviceText } from "../../../parts/wording";
import { TokenField } from "../TokenField";
import type { EditorProps } from "./Editor";
import { Line, Problem, Sentence } from "./parts";

type Service = Schemas["Service"];

/** A service: protocols and ports under one name. */
export function ServiceEditor({ object: s, problemAt, onWrite }: EditorProps<Service>) {
  return (
    <>
      <Sentence>
        <Line word="Any of">
          <TokenField
            id="terms"
            label="terms"
            tokens={s.terms.map(serviceText)}
            choices={[]}
            placeholder="tcp/443"
            problem={(i) => problemAt(`terms[${i}]`)}
            onChange={(tokens) =>
              onWrite({ ...s, terms: tokens.map((t) => s.terms.find((x) => serviceText(x) === t) ?? t) })
            }
          />
        </Line>
      </Sentence>
      <Problem at={["terms"]} problemAt={problemAt} />
      <p className="mt-4 text-[13px] text-soft">
        Write tcp/443, tcp/8000-8099, udp/53, tcp, icmp, icmp/8, icmpv6/128 or proto/47. To restrict source
        ports, write tcp/22 from 1024-65535.
      </p>
    </>
  );
}
