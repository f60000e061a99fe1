import type { Decision } from "../../api/client";
import { glyphs } from "../../words";

const all: Decision[] = ["keep", "hold", "drop"];

/** decisions are what a rule can do, to choose from. */
export const decisions = all.map((d) => ({ value: d, label: `${glyphs[d]} ${d}` }));
