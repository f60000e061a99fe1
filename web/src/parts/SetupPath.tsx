import { Link, useLocation } from "react-router";

/** The pages under Setup. What is below them names its own way. */
const under = new Set(
  (
    "policies catalogues rules odds trial-letters outbound health letters keys webhooks team installation glossary requests audit " +
    "usage purchases accounts"
  )
    .split(" ")
    .map((page) => `/${page}`),
);

/** SetupPath is the way back from what is set up once. */
export function SetupPath() {
  return (
    under.has(useLocation().pathname) && (
      <p className="path">
        <Link to="/setup">Setup</Link> →
      </p>
    )
  );
}
