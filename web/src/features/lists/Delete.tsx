import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Modal } from "antd";
import { api, type List, told } from "../../api/client";
import { keys } from "../../api/hooks";
import { Trouble } from "../../parts/Notice";
import { plural } from "../../words";

/** Delete asks once more, and says what goes with the list. */
export function Delete({ list, done }: { list: List; done: () => void }) {
  const client = useQueryClient();
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/lists/{id}", { params: { path: { id: list.id } } })),
    onSuccess: () => {
      done();
      return client.invalidateQueries({ queryKey: keys.lists });
    },
  });
  return (
    <Modal
      open
      onCancel={done}
      title={
        <>
          Delete <bdi>{list.name}</bdi>?
        </>
      }
      okText="Delete it for good"
      cancelText="Keep it"
      okButtonProps={{ loading: remove.isPending }}
      onOk={() => remove.mutate()}
    >
      <p>
        Its {plural(list.rows, "row")} go, with all its runs, results and evidence. Files that you have exported stay
        with you.
      </p>
      {remove.error && <Trouble error={remove.error} />}
    </Modal>
  );
}
