import { cloneElement, type ReactElement, useId } from "react";

/** Field is a control with its label above and, if there is something to say, help below. */
export function Field({ label, help, children }: { label: string; help?: string; children: ReactElement }) {
  const id = useId();
  return (
    <div className="field-of">
      <span aria-hidden="true">{label}</span>
      {cloneElement(children as ReactElement<Record<string, unknown>>, {
        "aria-label": label.replace(" (optional)", ""),
        ...(help && { "aria-describedby": id }),
      })}
      {help && (
        <small id={id} className="quiet">
          {help}
        </small>
      )}
    </div>
  );
}
