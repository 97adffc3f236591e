import { useEffect } from "react";

/** What the browser's tab says: the screen first, since several of them are open side by side. */
export function useTitle(screen: string) {
  useEffect(() => {
    document.title = screen ? `${screen} · Moorfog` : "Moorfog";
  }, [screen]);
}
