import type { Schema } from "../../api/client";

/** Addressee is whom a letter went to, and where it was forwarded to. */
export function Addressee({ letter }: { letter: Schema<"Letter"> }) {
  return (
    <td>
      <bdi>{letter.address}</bdi>
      {letter.final && (
        <small className="quiet">
          forwarded to <bdi>{letter.final}</bdi>
        </small>
      )}
    </td>
  );
}

/** HostWords are the words of the host that did not take a letter. */
export function HostWords({ letter }: { letter: Schema<"Letter"> }) {
  return (
    <td>
      <bdi>{letter.words}</bdi>
      {letter.host && (
        <small className="quiet">
          <bdi>{letter.host}</bdi>
        </small>
      )}
    </td>
  );
}
