import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, told } from "../../api/client";
import { keys } from "../../api/hooks";
import { Trouble } from "../../parts/Notice";

/** safe keeps the way on within the console. */
const safe = (to: string | null) => (to && /^\/[^/\\]/.test(to) ? to : "/lists");

export function SignIn() {
  const [key, setKey] = useState("");
  const client = useQueryClient();
  const go = useNavigate();
  const [search] = useSearchParams();
  const signIn = useMutation({
    mutationFn: async () => told(await api.POST("/session", { body: { key: key.trim() } })),
    onSuccess: (session) => {
      client.setQueryData(keys.session, session);
      void go(safe(search.get("to")), { replace: true });
    },
  });
  return (
    <main className="sign-in">
      <h1>
        <img src="/mark.svg" alt="" width={36} height={36} /> Varnet
      </h1>
      <p>Verifies the addresses of a list and takes out the ones that mail will reach.</p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate();
        }}
      >
        <label htmlFor="key">The key of your workspace</label>
        <input
          id="key"
          type="password"
          className="field"
          autoFocus
          autoComplete="current-password"
          value={key}
          onChange={(e) => setKey(e.target.value)}
        />
        {signIn.error && <Trouble error={signIn.error} />}
        <Button type="primary" htmlType="submit" disabled={!key.trim()} loading={signIn.isPending}>
          Sign in
        </Button>
      </form>
      <p className="quiet">
        Whoever runs the service makes a key with: <code>varnet key new</code>
      </p>
    </main>
  );
}
