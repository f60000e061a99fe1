import { useMutation } from "@tanstack/react-query";
import { Button, Modal } from "antd";
import { type ReactNode, useState } from "react";
import { api, Problem, told } from "../../api/client";
import { Trouble } from "../../parts/Notice";
import { Ask, Field } from "./Door";
import { canPasskey, provePasskey } from "./passkey";
import { usePerson } from "./queries";

/**
 * useConfirmed is a mutation that may want the person to prove who they are first; the dialog
 * asks for that, and the mutation is done then.
 */
export function useConfirmed<In, Out>(mutate: (v: In) => Promise<Out>, onSuccess?: (out: Out) => void) {
  const mutation = useMutation({ mutationFn: mutate, ...(onSuccess && { onSuccess }) });
  const asked = mutation.error instanceof Problem && mutation.error.kind === "confirm";
  const dialog: ReactNode = asked && (
    <Confirm onDone={() => mutation.mutate(mutation.variables as In)} onCancel={mutation.reset} />
  );
  return { ...mutation, error: asked ? null : mutation.error, dialog };
}

/** Confirm asks the person to prove who they are. */
function Confirm({ onDone, onCancel }: { onDone: () => void; onCancel: () => void }) {
  const person = usePerson();
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [ticket, setTicket] = useState("");
  const after = { onSuccess: onDone };
  const byPassword = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/session/confirm", { body: { password } })),
  });
  const byCode = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/session/confirm", { body: { ticket, code } })),
  });
  const byPasskey = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/session/confirm", { body: await provePasskey() })),
  });
  const letter = useMutation({
    mutationFn: async () => told(await api.POST("/session/confirm/letter")),
    onSuccess: (step) => setTicket(step.ticket ?? ""),
  });
  const other = letter.error ?? byPasskey.error ?? person.error;
  return (
    <Modal open title="Confirm that it is you" footer={null} onCancel={onCancel} destroyOnHidden>
      <p>This changes how you sign in, or cannot be undone.</p>
      {person.data?.password && !ticket && (
        <Ask
          act="Confirm"
          onSend={() => byPassword.mutate()}
          busy={byPassword.isPending}
          error={byPassword.error}
          ready={password !== ""}
        >
          <Field
            label="Your password"
            type="password"
            value={password}
            onChange={setPassword}
            autoComplete="current-password"
            autoFocus
          />
        </Ask>
      )}
      {ticket && (
        <Ask
          act="Confirm"
          onSend={() => byCode.mutate()}
          busy={byCode.isPending}
          error={byCode.error}
          ready={code.trim() !== ""}
        >
          <p role="status">{letter.data?.says}</p>
          <Field
            label="Code from the letter"
            value={code}
            onChange={setCode}
            autoComplete="one-time-code"
            inputMode="numeric"
            autoFocus
          />
        </Ask>
      )}
      {other && <Trouble error={other} />}
      <p className="acts">
        {canPasskey() && (person.data?.passkeys.length ?? 0) > 0 && (
          <Button onClick={() => byPasskey.mutate()} loading={byPasskey.isPending}>
            Use a passkey
          </Button>
        )}
        {!ticket && (
          <Button onClick={() => letter.mutate()} loading={letter.isPending}>
            Send me a code
          </Button>
        )}
      </p>
    </Modal>
  );
}
