import { useEffect } from "react";

/** How long a page stands before it is turned, in milliseconds. */
export const stands = 20_000;

/** Where the next page begins: a page further, or at the top again behind the last. */
export function nextPage(at: number, page: number, whole: number, step: 1 | -1 = 1): number {
  const last = Math.max(0, whole - page);
  if (step < 0) return at <= 0 ? last : Math.max(0, at - page);
  return at >= last - 1 ? 0 : Math.min(last, at + page);
}

/** In full screen a sheet that is longer than the screen turns its pages; the arrow keys turn them by hand, the space bar holds them. */
export function usePageTurning() {
  useEffect(() => {
    let held = false;
    const turn = (step: 1 | -1) => {
      const main = document.querySelector("main");
      if (document.fullscreenElement && main) main.scrollTo({ top: nextPage(main.scrollTop, main.clientHeight, main.scrollHeight, step) });
    };
    const timer = setInterval(() => { if (!held) turn(1); }, stands);
    const keys = (event: KeyboardEvent) => {
      if (!document.fullscreenElement || (event.target as HTMLElement).closest("input, textarea, [role=listbox]")) return;
      if (event.key === "ArrowRight" || event.key === "PageDown") turn(1);
      else if (event.key === "ArrowLeft" || event.key === "PageUp") turn(-1);
      else if (event.key === " " && !(event.target as HTMLElement).closest("button")) held = !held;
      else return;
      event.preventDefault();
    };
    globalThis.addEventListener("keydown", keys);
    return () => { clearInterval(timer); globalThis.removeEventListener("keydown", keys); };
  }, []);
}
