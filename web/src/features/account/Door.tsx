import { Button } from "antd";
import type { FormEvent, HTMLInputAutoCompleteAttribute, ReactNode } from "react";
import { useId } from "react";
import { Trouble } from "../../parts/Notice";

/** safe keeps the way on within the console. */
export const safe = (to: string | null) => (to && /^\/[^/\\]/.test(to) ? to : "/lists");

/** Door is a page before one is signed in. */
export function Door({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="sign-in">
      <p className="brand">
        <img src="/mark.svg" alt="" width={36} height={36} /> Varnet
      </p>
      <h1>{title}</h1>
      {children}
    </main>
  );
}

/** Field is a line to be filled in, with its label and what is to be known about it. */
export function Field({
  label,
  hint,
  onChange,
  ...rest
}: {
  label: string;
  hint?: string;
  value: string;
  onChange: (text: string) => void;
  type?: string;
  autoComplete?: HTMLInputAutoCompleteAttribute;
  inputMode?: "numeric" | "email";
  autoFocus?: boolean;
  maxLength?: number;
  readOnly?: boolean;
  required?: boolean;
}) {
  const id = useId();
  return (
    <div className="labelled">
      <label htmlFor={id}>{label}</label>
      <input
        id={id}
        className="field"
        aria-describedby={hint && `${id}-hint`}
        onChange={(e) => onChange(e.target.value)}
        {...rest}
      />
      {hint && (
        <small id={`${id}-hint`} className="quiet">
          {hint}
        </small>
      )}
    </div>
  );
}

/** NameAndAddress are who a newcomer says that they are. */
export function NameAndAddress({
  name,
  onName,
  address,
  onAddress,
}: {
  name: string;
  onName: (text: string) => void;
  address: string;
  onAddress: (text: string) => void;
}) {
  return (
    <>
      <Field label="Name" value={name} onChange={onName} autoComplete="name" maxLength={100} autoFocus />
      <Field
        label="Address"
        value={address}
        onChange={onAddress}
        autoComplete="email"
        inputMode="email"
        maxLength={320}
      />
    </>
  );
}

/** Ask is a form with one main act. */
export function Ask({
  act,
  onSend,
  busy,
  error,
  ready = true,
  children,
}: {
  act: string;
  onSend: () => void;
  busy: boolean;
  error: Error | null;
  ready?: boolean;
  children?: ReactNode;
}) {
  const send = (e: FormEvent) => {
    e.preventDefault();
    onSend();
  };
  return (
    <form onSubmit={send}>
      {children}
      {error && <Trouble error={error} />}
      <Button type="primary" htmlType="submit" loading={busy} disabled={!ready}>
        {act}
      </Button>
    </form>
  );
}

/** passwordHint says what a password must be. */
export const passwordHint = "At least 10 characters. A few words in a row are easy to keep in mind.";
