import { Link, Outlet } from "react-router";

/** UnderSetup shows the way back above a page that Setup lists. */
export function UnderSetup() {
  return (
    <>
      <p className="path">
        <Link to="/setup">Setup</Link> →
      </p>
      <Outlet />
    </>
  );
}
