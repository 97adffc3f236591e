import { TextInput, type TextInputProps } from "@mantine/core";

interface Props extends Omit<TextInputProps, "onChange" | "value"> {
  value: string;
  set: (value: string) => void;
}

/** A text field that hands on its text. */
export function Text({ value, set, ...rest }: Props) {
  return <TextInput value={value} onChange={(event) => set(event.currentTarget.value)} {...rest} />;
}

/** What went wrong, in the words of the server. */
export function Problem({ words }: { words: string }) {
  if (!words) return null;
  return (
    <p className="rust" role="alert">
      {words}
    </p>
  );
}
