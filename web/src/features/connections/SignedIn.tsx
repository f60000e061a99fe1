import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, told } from "../../api/client";
import { Trouble, Wait } from "../../parts/Notice";

/** SignedIn is where a person comes back to who signed in at a place: the sign-in is kept. */
export function SignedIn() {
  const [search] = useSearchParams();
  const go = useNavigate();
  const keep = useMutation({
    mutationFn: async () =>
      told(
        await api.POST("/connections/signed-in", {
          body: { state: search.get("state") ?? "", code: search.get("code") ?? undefined },
        }),
      ),
    onSuccess: (c) => go(`/connections/${c.id}`, { replace: true }),
  });
  const begun = useRef(false); // a state is good once
  useEffect(() => {
    if (begun.current) return;
    begun.current = true;
    keep.mutate();
  }, [keep]);
  if (!keep.error) return <Wait for="the place" />;
  return (
    <>
      <h1>Sign-in at the place</h1>
      <Trouble error={keep.error} />
      <p>
        <Link to="/connections">See the connections</Link>
      </p>
    </>
  );
}
