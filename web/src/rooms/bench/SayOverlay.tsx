import { Modal } from "@mantine/core";
import { useKeys } from "@/shared/keys";

interface Props {
  words: string;
  close: () => void;
  /** In a run its own keys go on: Space is a dose there, and closes nothing. No button holds the focus, or it would. */
  inRun?: boolean;
}

/** The words to say, as large as the screen allows; the focus stays in it. */
export function SayOverlay({ words, close, inRun = false }: Props) {
  useKeys({ w: close, escape: close, ...(inRun ? {} : { " ": close }) });
  return (
    <Modal
      opened
      fullScreen
      onClose={close}
      withCloseButton={false}
      closeOnEscape={false}
      padding={0}
      transitionProps={{ duration: 0 }}
      aria-label="The words to say"
    >
      <div tabIndex={-1} data-autofocus className={words.length > 240 ? "say-overlay long" : "say-overlay"}>
        <span>{words}</span>
        <button type="button" tabIndex={-1} onClick={close}>
          <kbd>W</kbd> closes
        </button>
      </div>
    </Modal>
  );
}
