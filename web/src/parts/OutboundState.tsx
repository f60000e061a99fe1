import { Link } from "react-router";
import type { components } from "../api/contract.gen";
import { For } from "./For";

/** OutboundState says whether outbound is ready, with the way to it. */
export function OutboundState({ readiness }: { readiness: components["schemas"]["Readiness"] }) {
  return (
    <>
      Outbound is {readiness.state}. {readiness.says}{" "}
      <For scope="installation">
        <Link to="/outbound">Open Outbound</Link>
      </For>
    </>
  );
}
