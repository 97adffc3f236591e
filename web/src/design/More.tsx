import { Key } from "@/design/Key";

interface Props {
  page: number;
  pages: number;
  more: (() => void) | undefined;
}

/** The key that turns a list to its next nine; nothing where all are shown. */
export function More({ page, pages, more }: Props) {
  if (!more) return null;
  return <Key cap="0" label={`more, ${page} of ${pages}`} onPress={more} />;
}
