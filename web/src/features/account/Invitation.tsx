import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { Link, useLocation, useNavigate } from "react-router";
import { api, told } from "../../api/client";
import { useSession } from "../../api/hooks";
import { Trouble, Wait } from "../../parts/Notice";
import { moment } from "../../words";
import { Ask, Door, Field, passwordHint } from "./Door";
import { useInvitation, useWaysIn } from "./queries";
import { useWayIn } from "./Steps";

/** Invitation says what somebody is invited to, and lets them join or decline. */
export function Invitation() {
  const link = useLocation().hash.slice(1);
  const invitation = useInvitation(link);
  const session = useSession();
  const go = useNavigate();
  const decline = useMutation({
    mutationFn: async () => told(await api.POST("/invitations/decline", { body: { invitation: link } })),
    onSuccess: () => void go("/sign-in", { replace: true }),
  });
  const i = invitation.data;
  return (
    <Door title="Invitation">
      {invitation.error && <Trouble error={invitation.error} />}
      {!invitation.error && !i && <Wait for="the invitation" />}
      {i && (
        <>
          <p className="sentence">
            {i.invitedBy ? <bdi>{i.invitedBy}</bdi> : "A colleague"} invites <bdi>{i.address}</bdi> to work in “
            <bdi>{i.workspace}</bdi>”.
          </p>
          <p>
            As {i.role}: {i.says}. It expires on {moment(i.expiresAt)}.
          </p>
          {session.data?.person ? <Accept link={link} /> : <Join link={link} />}
          <p>
            <button type="button" className="plain" onClick={() => decline.mutate()}>
              Decline
            </button>
          </p>
          {decline.error && <Trouble error={decline.error} />}
        </>
      )}
    </Door>
  );
}

function Accept({ link }: { link: string }) {
  const client = useQueryClient();
  const go = useNavigate();
  const accept = useMutation({
    mutationFn: async () => told(await api.POST("/invitations/accept", { body: { invitation: link } })),
    onSuccess: () => {
      client.clear();
      void go("/lists", { replace: true });
    },
  });
  return (
    <>
      {accept.error && <Trouble error={accept.error} />}
      <Button type="primary" onClick={() => accept.mutate()} loading={accept.isPending}>
        Join
      </Button>
    </>
  );
}

function Join({ link }: { link: string }) {
  const ways = useWaysIn();
  const wayIn = useWayIn("/lists");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const join = useMutation({
    mutationFn: async () =>
      told(await api.POST("/invitations/join", { body: { invitation: link, name, ...(password && { password }) } })),
    onSuccess: wayIn,
  });
  return (
    <>
      <Ask
        act="Join"
        onSend={() => join.mutate()}
        busy={join.isPending}
        error={join.error}
        ready={name.trim() !== "" && (password !== "" || ways.data?.letters === true)}
      >
        <Field label="Your name" value={name} onChange={setName} autoComplete="name" maxLength={100} autoFocus />
        <Field
          label="Password"
          hint={ways.data?.letters ? `${passwordHint} Leave it empty to sign in by code each time.` : passwordHint}
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
        />
      </Ask>
      {ways.data?.provider && (
        <p>
          <Button href={`/api/v1/sign-in/provider?${new URLSearchParams({ to: "/lists", invitation: link })}`}>
            {ways.data.provider}
          </Button>
        </p>
      )}
      <p>
        Have an account at this address?{" "}
        <Link to={`/sign-in?to=${encodeURIComponent(`/invitation#${link}`)}`}>Sign in</Link>, and join then.
      </p>
    </>
  );
}
