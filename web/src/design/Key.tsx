import "./Key.css";
/** A key drawn as a key, with what it does. Also a big target for a finger. */
export function Key({
  cap,
  label,
  onPress,
  tone = "",
  disabled = false,
}: {
  cap: string;
  label: string;
  onPress: () => void;
  tone?: string;
  disabled?: boolean;
}) {
  return (
    <button
      type="button"
      className={`key ${tone}`}
      disabled={disabled}
      aria-keyshortcuts={cap}
      onClick={(event) => {
        event.currentTarget.blur();
        onPress();
      }}
    >
      <kbd>{cap}</kbd>
      <span>{label}</span>
    </button>
  );
}
