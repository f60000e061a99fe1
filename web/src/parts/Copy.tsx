import { useState } from "react";

/** Copy puts a text on the clipboard and says so. */
export function Copy({ text, what }: { text: string; what: string }) {
  const [done, setDone] = useState(false);
  const copy = () =>
    void navigator.clipboard.writeText(text).then(() => {
      setDone(true);
      setTimeout(() => setDone(false), 2000);
    });
  return (
    <button type="button" className="plain copy" onClick={copy}>
      {done ? "copied" : "copy"}
      <span className="unseen"> {what}</span>
    </button>
  );
}
