import { browserSupportsWebAuthn, startAuthentication, startRegistration } from "@simplewebauthn/browser";
import { api, told } from "../../api/client";

/** canPasskey reports whether the browser takes passkeys here: only where the console is reached by a name. */
export const canPasskey = () => browserSupportsWebAuthn() && !/^[\d.:[\]]+$/.test(location.hostname);

type Creation = Parameters<typeof startRegistration>[0]["optionsJSON"];
type Request = Parameters<typeof startAuthentication>[0]["optionsJSON"];

/** provePasskey asks the browser for a passkey; its answer goes with the ticket. */
export async function provePasskey(): Promise<{ ticket: string; credential: Record<string, unknown> }> {
  const asked = told(await api.POST("/sign-in/passkey/options"));
  const answer = await startAuthentication({ optionsJSON: asked.options as Request });
  return { ticket: asked.ticket, credential: answer as unknown as Record<string, unknown> };
}

/** makePasskey has the browser make a passkey. */
export async function makePasskey(): Promise<{ ticket: string; credential: Record<string, unknown> }> {
  const asked = told(await api.POST("/person/passkeys/options"));
  const answer = await startRegistration({ optionsJSON: asked.options as Creation });
  return { ticket: asked.ticket, credential: answer as unknown as Record<string, unknown> };
}
