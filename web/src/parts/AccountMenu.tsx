import { useMutation, useQueryClient } from "@tanstack/react-query";
import { LogOut } from "lucide-react";
import { remove, type Session } from "../api/client";
import { live } from "../live/store";
import { useGo } from "../router";
import { Link } from "./Link";

/** Who looks, and the way out. */
export function AccountMenu({ session }: { session: Session }) {
  const client = useQueryClient();
  const go = useGo();
  const out = useMutation({
    mutationFn: () => remove("session"),
    onSuccess: () => {
      go("/");
      live.reset();
      return client.resetQueries(); // nothing stays of what was seen, and it is asked anew who looks
    },
  });
  if (session.kind === "anyone") return null;
  return (
    <>
      <Link
        to="/account"
        className="target max-w-16 truncate text-soft underline underline-offset-4 sm:max-w-none"
      >
        {session.name}
      </Link>
      <button
        type="button"
        className="rounded-sheet px-2 py-1 text-soft hover:bg-sheet"
        onClick={() => out.mutate()}
      >
        <LogOut size={16} aria-hidden className="inline sm:hidden" />
        <span className="sr-only sm:not-sr-only">Log out</span>
      </button>
    </>
  );
}
