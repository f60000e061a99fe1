import type { ReactNode } from "react";

/** Act is a button within a line; of says to those who cannot see what it is done to. */
export function Act({ of, onClick, children }: { of: string; onClick: () => void; children: ReactNode }) {
  return (
    <button type="button" className="plain" onClick={onClick}>
      {children}
      <span className="unseen">: {of}</span>
    </button>
  );
}
