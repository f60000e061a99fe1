import { Link } from "react-router";
import type { components } from "../api/contract.gen";

/** OutboundState says whether outbound is ready, with the way to it. */
export function OutboundState({ readiness }: { readiness: components["schemas"]["Readiness"] }) {
  return (
    <>
      Outbound is {readiness.state}. {readiness.says} <Link to="/outbound">Open Outbound</Link>
    </>
  );
}
