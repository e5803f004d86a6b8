import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { ask, replace, type BoardVersion } from "../api/client";
import { has, useSession } from "../api/hooks";
import { button } from "../parts/Field";
import { Link } from "../parts/Link";
import { Modal } from "../parts/Modal";
import { Failed } from "../parts/Said";
import { longTime } from "../time/format";
import { viewerZone } from "../time/zone";

/** The versions of a board; each can be looked at, and brought back. */
export function BoardHistory({ saved, onClose }: { saved: BoardVersion; onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const mayChange = has(useSession().data, "operator");
  const history = useQuery({
    queryKey: ["board-history", saved.id],
    queryFn: () => ask("boards/{board}/history", { board: String(saved.id) }),
    staleTime: 0,
  });
  const newest = history.data?.boards[0];
  const back = useMutation({
    mutationFn: async (version: number) => {
      const old = await ask("boards/{board}", { board: String(saved.id), version: String(version) });
      return replace("boards/{board}", newest?.version ?? 0, old.board, { board: String(saved.id) });
    },
    onSuccess: async () => {
      onClose();
      void navigate(`/boards/${saved.id}`);
      for (const key of ["boards", "board", "board-history"])
        await client.invalidateQueries({ queryKey: [key] });
    },
  });
  return (
    <Modal title="History" onClose={onClose}>
      <Failed error={history.error ?? back.error} />
      <ol className="flex flex-col gap-1">
        {(history.data?.boards ?? []).map((v) => (
          <li
            key={v.version}
            className="flex items-baseline gap-3 border-b border-rule py-1"
            data-version={v.version}
          >
            <span className="w-8 text-right">{v.version}</span>
            <span className="min-w-0">
              {v.removed ? "removed" : v.title}
              <span className="block text-sm text-soft">
                {v.saved_at && longTime(Date.parse(v.saved_at), viewerZone(), true)}
                {v.author && `, by ${v.author}`}
              </span>
            </span>
            <span className="ml-auto flex gap-2">
              <Link to={`/boards/${saved.id}?version=${v.version}`} className="underline">
                Look
              </Link>
              {mayChange && v.version !== newest?.version && (
                <button
                  type="button"
                  className={button}
                  disabled={back.isPending}
                  onClick={() => back.mutate(v.version)}
                >
                  Bring back
                </button>
              )}
            </span>
          </li>
        ))}
      </ol>
    </Modal>
  );
}
