import { ago, moment } from "../words";

/** When says how long ago something was; the exact time shows on hover and is read out with it. */
export function When({ at }: { at: string }) {
  return (
    <time dateTime={at} title={moment(at)}>
      {ago(at)}
      <span className="unseen">, {moment(at)}</span>
    </time>
  );
}
