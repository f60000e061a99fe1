import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { Act } from "../../parts/Act";
import { When } from "../../parts/When";
import { plural } from "../../words";
import { useRead } from "./queries";

const severities: Record<Schema<"Notice">["severity"], string> = { news: "", caution: "Caution", problem: "Problem" };

/** NoticeList shows notices, each with the one thing that can be done next; going there is reading it. */
export function NoticeList({ of: notices, onGo }: { of: Schema<"Notice">[]; onGo?: () => void }) {
  const read = useRead();
  return (
    <ul className="notices">
      {notices.map((n) => (
        <li key={n.id} className={n.unread > 0 ? "unread" : undefined}>
          <p className="part-name">
            {severities[n.severity] && <span className={`severity ${n.severity}`}>{severities[n.severity]}: </span>}
            <bdi>{n.subject}</bdi>
            {n.unread > 0 && <span className="unseen"> (not read)</span>}
          </p>
          <p>
            <bdi>{n.says}</bdi>
          </p>
          <p className="quiet">
            <When at={n.at} />
            {n.count > 1 && `, and ${plural(n.count - 1, "time", "times")} before`}
          </p>
          <p className="row-acts">
            <Link
              to={n.place}
              onClick={() => {
                if (n.unread > 0) read.mutate({ seq: n.seq });
                onGo?.();
              }}
            >
              {n.act}
            </Link>
            {n.unread > 0 && (
              <Act of={n.subject} onClick={() => read.mutate({ seq: n.seq })}>
                Mark as read
              </Act>
            )}
          </p>
        </li>
      ))}
    </ul>
  );
}
