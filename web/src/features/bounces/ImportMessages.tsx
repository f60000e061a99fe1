import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button } from "antd";
import { useRef } from "react";
import { type Schema, send } from "../../api/client";
import { Trouble } from "../../parts/Notice";
import { changedKeys } from "./queries";

/** ImportMessages imports files of messages that came back. */
export function ImportMessages() {
  const client = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const take = useMutation({
    mutationFn: async (files: File[]) => {
      const said: string[] = [];
      for (const f of files) said.push((await send<Schema<"ImportedBounces">>("/bounces", f)).says);
      return said;
    },
    onSettled: () => {
      for (const key of changedKeys) void client.invalidateQueries({ queryKey: key });
    },
  });
  return (
    <>
      <input
        ref={input}
        type="file"
        multiple
        hidden
        accept=".eml,.mbox,.zip,.txt"
        aria-label="Messages that came back"
        onChange={(e) => {
          if (e.target.files?.length) take.mutate([...e.target.files]);
          e.target.value = "";
        }}
      />
      <Button type="primary" loading={take.isPending} onClick={() => input.current?.click()}>
        Import messages
      </Button>
      {take.error && <Trouble error={take.error} />}
      {take.data && <Alert type="success" role="status" className="notice" title={take.data.join(" ")} />}
    </>
  );
}
