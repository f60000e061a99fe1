import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, type Schema, told } from "../../api/client";
import { moment } from "../../words";

/** RoutineDraft says back what a routine would do, and when; what is missing yet, it says, too. */
export function RoutineDraft({ of: spec }: { of: Schema<"RoutineSpec"> }) {
  const draft = useQuery({
    queryKey: ["routine-draft", spec],
    queryFn: async () => told(await api.POST("/routines/draft", { body: spec })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  return (
    <section aria-live="polite">
      <h2>What it will do</h2>
      {draft.error ? (
        <p className="quiet">{draft.error.message.replace("This routine will not work: ", "Not yet: ")}</p>
      ) : (
        draft.data && (
          <>
            {draft.data.says.map((s) => (
              <p key={s}>
                <bdi>{s}</bdi>
              </p>
            ))}
            {draft.data.next.length > 0 && (
              <>
                <h3>Due next</h3>
                <ul>
                  {draft.data.next.map((at) => (
                    <li key={at}>{moment(at)}</li>
                  ))}
                </ul>
              </>
            )}
          </>
        )
      )}
    </section>
  );
}
