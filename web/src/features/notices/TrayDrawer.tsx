import { Drawer } from "antd";
import { Link } from "react-router";
import { Trouble, Wait } from "../../parts/Notice";
import { plural } from "../../words";
import { NoticeList } from "./NoticeList";
import { useNotices, useRead } from "./queries";

/** TrayDrawer shows the newest notices beside the page. */
export function TrayDrawer({ open, close }: { open: boolean; close: () => void }) {
  const notices = useNotices();
  const read = useRead();
  const n = notices.data;
  return (
    <Drawer open={open} onClose={close} size={440} title={<h2 className="drawer-title">Notices</h2>}>
      {notices.error && <Trouble error={notices.error} again={() => void notices.refetch()} />}
      {!n && !notices.error && <Wait for="the notices" />}
      {n && (
        <>
          <p className="row-acts">
            {n.unread > 0 && (
              <button type="button" className="plain" onClick={() => read.mutate({ upto: n.last })}>
                Mark all {plural(n.unread, "notice")} as read
              </button>
            )}
            <Link to="/notices/letters" onClick={close}>
              Choose letters
            </Link>
          </p>
          {n.items.length === 0 ? (
            <p>Nothing has happened yet. When a run is finished, it says so here.</p>
          ) : (
            <NoticeList of={n.items} onGo={close} />
          )}
        </>
      )}
    </Drawer>
  );
}
