import { Link } from "react-router";
import { Trouble, Wait } from "../../parts/Notice";
import { NoticeList } from "./NoticeList";
import { useNotices, useRead } from "./queries";

/** Notices shows all that a person is told, on a page of its own. */
export function Notices() {
  const notices = useNotices();
  const read = useRead();
  const n = notices.data;
  return (
    <>
      <h1>Notices</h1>
      {notices.error && <Trouble error={notices.error} again={() => void notices.refetch()} />}
      {!n && !notices.error && <Wait for="the notices" />}
      {n && (
        <>
          <p className="sentence">
            {n.items.length === 0
              ? "Nothing has happened in the last 30 days. When a run is finished, it says so here."
              : `${n.unread === 0 ? "None" : n.unread} of the ${n.items.length} ${n.items.length === 1 ? "notice" : "notices"} of the last 30 days ${n.unread === 1 ? "is" : "are"} not read.`}
          </p>
          <div className="acts">
            {n.unread > 0 && (
              <button type="button" className="plain" onClick={() => read.mutate({ upto: n.last })}>
                Mark all as read
              </button>
            )}
            <Link to="/notices/letters">Choose letters</Link>
          </div>
          <NoticeList of={n.items} />
        </>
      )}
    </>
  );
}
