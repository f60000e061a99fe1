import { lazy, Suspense, useEffect, useState } from "react";

const Palette = lazy(async () => ({ default: (await import("./Palette")).Palette }));

/** Shortcuts hears the keys that do something on every page, and brings what they open when it is asked for. */
export function Shortcuts() {
  const [open, setOpen] = useState<"go" | "help">();
  const [asked, setAsked] = useState(false);
  useEffect(() => {
    const show = (what: "go" | "help") => {
      setAsked(true);
      setOpen(what);
    };
    const pressed = (e: globalThis.KeyboardEvent) => {
      const writes =
        (e.target instanceof HTMLInputElement && e.target.type !== "checkbox") ||
        e.target instanceof HTMLTextAreaElement;
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        show("go");
      } else if (e.key === "?" && !writes) show("help");
      else if (e.key === "/" && !writes) {
        const search = document.getElementById("search");
        if (search) {
          e.preventDefault();
          search.focus();
        }
      }
    };
    document.addEventListener("keydown", pressed);
    return () => document.removeEventListener("keydown", pressed);
  }, []);
  if (!asked) return null;
  return (
    <Suspense fallback={null}>
      <Palette open={open} onClose={() => setOpen(undefined)} />
    </Suspense>
  );
}
