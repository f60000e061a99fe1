import { Popconfirm } from "antd";
import type { ReactNode } from "react";

/** Sure is a button in a line that asks once more before it does what cannot be undone. */
export function Sure({
  ask,
  says,
  yes,
  no = "Keep it",
  onYes,
  children,
}: {
  ask: string;
  says: string;
  yes: string;
  no?: string;
  onYes: () => void;
  children: ReactNode;
}) {
  return (
    <Popconfirm title={ask} description={says} okText={yes} cancelText={no} onConfirm={onYes}>
      <button type="button" className="plain">
        {children}
      </button>
    </Popconfirm>
  );
}
