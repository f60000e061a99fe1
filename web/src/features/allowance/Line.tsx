import { Link } from "react-router";
import { number, plural } from "../../words";
import { useAllowance } from "./queries";

/** Line shows on the top line how many checks are left; nothing where no allowance is kept. */
export function Line() {
  const allowance = useAllowance();
  const a = allowance.data;
  if (!a?.kept) return null;
  const whole = `${number(a.available)} of ${plural(a.whole, "check")} that came are available${a.reserved > 0 ? `, ${number(a.reserved)} are set aside` : ""}`;
  return (
    <Link to="/usage" title={whole} className={a.low > 0 && a.available < a.low ? "low" : undefined}>
      {plural(a.available, "check")}
      <span className="unseen"> left: {whole}</span>
    </Link>
  );
}
