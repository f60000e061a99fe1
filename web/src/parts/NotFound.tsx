import { Link } from "react-router";

export function NotFound() {
  return (
    <>
      <h1>There is no such page</h1>
      <p>
        <Link to="/lists">Go to the lists</Link>
      </p>
    </>
  );
}
