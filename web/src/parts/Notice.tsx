import { Alert, Button } from "antd";
import { type ReactNode, useEffect, useState } from "react";
import { Link } from "react-router";
import { Problem } from "../api/client";

/** Trouble says what went wrong where it happened, and lets the person try again; what is not there shows the way to what is. */
export function Trouble({ error, again }: { error: Error; again?: () => void }) {
  const gone = error instanceof Problem && error.status === 404;
  return (
    <Alert
      type="error"
      role="alert"
      title={error.message}
      className="notice"
      action={gone ? <Link to="/lists">Go to the lists</Link> : again && <Button onClick={again}>Try again</Button>}
    />
  );
}

/** Wait says what is being waited for once it has taken a second. */
export function Wait({ for: what }: { for: string }) {
  const [long, setLong] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLong(true), 1000);
    return () => clearTimeout(timer);
  }, []);
  return (
    <p className="wait" role="status">
      {long ? `Waiting for ${what} …` : ""}
    </p>
  );
}

/** Sentence is a plain sentence that carries the numbers. */
export function Sentence({ children }: { children: ReactNode }) {
  return <p className="sentence">{children}</p>;
}
