import { Pick } from "../../parts/Pick";

interface Props {
  label: string;
  value: string;
  values: string[];
  placeholder?: string;
  bold?: boolean;
  small?: boolean;
  onChange: (value: string) => void;
}

/** A word in a sentence that is one of a few. */
export function Choose({ label, value, values, placeholder, bold, small, onChange }: Props) {
  return (
    <Pick
      label={label}
      value={value}
      options={values.map((v) => [v, v] as const)}
      placeholder={placeholder}
      className={`rounded-md bg-sheet px-2 ${small ? "max-w-28 text-[13px] leading-6" : "leading-7"} ${bold ? "font-semibold" : ""}`}
      onChange={onChange}
    />
  );
}
