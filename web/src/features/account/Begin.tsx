import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation } from "react-router";
import { api, told } from "../../api/client";
import { Ask, Door, Field, NameAndAddress, passwordHint } from "./Door";
import { useWayIn } from "./Steps";

/** Begin makes the first account of an installation, by the link that its start has shown. */
export function Begin() {
  const link = useLocation().hash.slice(1);
  const wayIn = useWayIn("/setup");
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [password, setPassword] = useState("");
  const send = useMutation({
    mutationFn: async () => told(await api.POST("/sign-up/owner", { body: { link, name, address, password } })),
    onSuccess: wayIn,
  });
  return (
    <Door title="Begin">
      <p>
        You are the first here: this account becomes an owner of the installation. Say who you are; colleagues are
        invited later.
      </p>
      <Ask
        act="Begin"
        onSend={() => send.mutate()}
        busy={send.isPending}
        error={send.error}
        ready={name.trim() !== "" && address.trim() !== "" && password !== ""}
      >
        <NameAndAddress name={name} onName={setName} address={address} onAddress={setAddress} />
        <Field
          label="Password"
          hint={passwordHint}
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
        />
      </Ask>
    </Door>
  );
}
