import { Input, InputNumber } from "antd";
import type { Schema } from "../../api/client";
import { Choice } from "../../parts/Choice";

type Server = Pick<Schema<"LetterServer">, "host" | "port" | "security" | "username">;

const securities: { value: Server["security"]; label: string }[] = [
  { value: "starttls", label: "STARTTLS" },
  { value: "tls", label: "TLS from the first byte" },
  { value: "none", label: "none, on this machine alone" },
];

/** ServerFields are the fields of a submission server: where it is, and as whom to sign in. */
export function ServerFields({
  what = "Submission server",
  server,
  kept,
  password,
  onChange,
  onPassword,
}: {
  what?: string;
  server: Server;
  kept: boolean;
  password: string;
  onChange: (part: Partial<Server>) => void;
  onPassword: (password: string) => void;
}) {
  return (
    <>
      <label>
        {what}
        <Input
          value={server.host}
          onChange={(e) => onChange({ host: e.target.value })}
          placeholder="mail.fernhollow.example"
        />
      </label>
      <label>
        Port
        <InputNumber
          min={1}
          max={65535}
          controls={false}
          value={server.port}
          onChange={(n) => n && onChange({ port: n })}
        />
      </label>
      <Choice
        label="Security"
        value={server.security}
        onChange={(security) => onChange({ security })}
        options={securities}
        popupMatchSelectWidth={false}
      />
      <label>
        Name to sign in with
        <Input
          value={server.username ?? ""}
          onChange={(e) => onChange({ username: e.target.value })}
          autoComplete="off"
        />
      </label>
      <label>
        Password
        <Input.Password
          value={password}
          onChange={(e) => onPassword(e.target.value)}
          autoComplete="new-password"
          placeholder={kept ? "the one that is kept" : "none"}
          visibilityToggle={false}
        />
      </label>
    </>
  );
}
