import type { ReactNode } from "react";
import { useSession } from "../api/hooks";

/** useMay reports whether who is signed in may do what a scope stands for, in the workspace they are in. */
export function useMay(scope: string): boolean {
  const session = useSession();
  return session.data?.scopes.includes(scope) === true;
}

/** For shows acts to those who may do them; to others it shows otherwise, or nothing. */
export function For({ scope, otherwise, children }: { scope: string; otherwise?: ReactNode; children: ReactNode }) {
  return useMay(scope) ? children : otherwise;
}
