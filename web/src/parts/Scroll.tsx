import type { ReactNode } from "react";

/** Scroll is a region that is wider than the page at times; the keyboard scrolls it, too. */
export function Scroll({ label, children }: { label: string; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section className="scroll" tabIndex={0} aria-label={label}>
      {children}
    </section>
  );
}
