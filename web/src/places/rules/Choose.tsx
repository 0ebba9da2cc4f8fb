import { ChevronDown } from "lucide-react";
import { Select } from "radix-ui";

interface Props {
  label: string;
  value: string;
  values: string[];
  placeholder?: string;
  bold?: boolean;
  onChange: (value: string) => void;
}

/** A word in a sentence that is one of a few. */
export function Choose({ label, value, values, placeholder, bold, onChange }: Props) {
  return (
    <Select.Root value={value} onValueChange={onChange}>
      <Select.Trigger
        aria-label={label}
        className={`inline-flex items-center gap-1 rounded-md border border-line bg-sheet px-2 leading-7 hover:border-accent data-placeholder:text-soft ${bold ? "font-semibold" : ""}`}
      >
        <Select.Value placeholder={placeholder} />
        <ChevronDown size={13} className="text-soft" />
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-40 rounded-md border border-line bg-sheet py-1 shadow-lg"
        >
          <Select.Viewport>
            {values.map((v) => (
              <Select.Item
                key={v}
                value={v}
                className="cursor-default px-3 py-1 outline-none data-highlighted:bg-wash data-[state=checked]:font-semibold"
              >
                <Select.ItemText>{v}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
