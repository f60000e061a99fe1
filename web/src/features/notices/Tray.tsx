import { lazy, Suspense, useState } from "react";
import { useNotices } from "./queries";

const TrayDrawer = lazy(async () => ({ default: (await import("./TrayDrawer")).TrayDrawer }));

/** Tray is the button in the top line that counts what is not read, and what opens with it. */
export function Tray() {
  const notices = useNotices();
  const [open, setOpen] = useState(false);
  const [wanted, setWanted] = useState(false); // from then on it stays, so that it closes as it opened
  const n = notices.data;
  return (
    <>
      <button
        type="button"
        className="plain"
        aria-expanded={open}
        onClick={() => {
          setWanted(true);
          setOpen(true);
        }}
      >
        Notices
        {n && n.unread > 0 && (
          <>
            <span className="unseen">, not read: </span>
            <span className="count">{n.unread}</span>
          </>
        )}
      </button>
      {wanted && (
        <Suspense fallback={null}>
          <TrayDrawer open={open} close={() => setOpen(false)} />
        </Suspense>
      )}
    </>
  );
}
