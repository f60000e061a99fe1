import { useMutation } from "@tanstack/react-query";
import { Alert, Button } from "antd";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, told } from "../../api/client";
import { Trouble } from "../../parts/Notice";
import { When } from "../../parts/When";
import { useConfirmed } from "./Confirm";
import { Ask, Field } from "./Door";

/** Device lets the command line of a machine in, once the person has seen which it is. */
export function Device() {
  const [search] = useSearchParams();
  const [code, setCode] = useState(search.get("code") ?? "");
  const look = useMutation({
    mutationFn: async () => told(await api.POST("/devices/look", { body: { code } })),
  });
  const answer = useConfirmed(async (letIn: boolean) => ({
    letIn,
    device: told(await api.POST("/devices/answer", { body: { code, letIn } })).device,
  }));
  return (
    <>
      <h1>Let a command line in</h1>
      {answer.data ? (
        <p className="sentence" role="status">
          {answer.data.letIn ? (
            <>
              <bdi>{answer.data.device}</bdi> is signed in as you. Go back to it; you can close this page.
            </>
          ) : (
            <>
              <bdi>{answer.data.device}</bdi> was turned away.
            </>
          )}
        </p>
      ) : (
        <>
          <p>Type the code that “varnet sign-in” shows.</p>
          <div className="settled">
            <Ask
              act="Look"
              onSend={() => look.mutate()}
              busy={look.isPending}
              error={look.error}
              ready={code.trim() !== ""}
            >
              <Field label="Code" value={code} onChange={setCode} autoComplete="off" maxLength={12} autoFocus />
            </Ask>
          </div>
          {look.data && (
            <section>
              <h2>
                <bdi>{look.data.device}</bdi>
              </h2>
              <p>
                The request comes from {look.data.place}, <When at={look.data.at} />.
              </p>
              <Alert type="warning" className="notice" title={look.data.says} />
              {answer.error && <Trouble error={answer.error} />}
              <span className="acts">
                <Button type="primary" onClick={() => answer.mutate(true)} loading={answer.isPending}>
                  Let it in
                </Button>
                <Button onClick={() => answer.mutate(false)}>Turn it away</Button>
              </span>
            </section>
          )}
        </>
      )}
      {answer.dialog}
    </>
  );
}
