import type { ReactNode } from "react";
import { Refusal } from "../api/client";
import { Link } from "./Link";

/** What went wrong, or nothing. */
export function Failed({ error }: { error: Error | null | undefined }) {
  if (!error) return null;
  return (
    <p role="alert" className="mt-3 whitespace-pre-wrap text-bad">
      {error.message}
      {error instanceof Refusal && error.code && (
        <>
          {" "}
          <Link
            to={`/docs/refusals#${error.code}`}
            className="text-sm underline"
            label={`What ${error.code} means`}
          >
            What this means
          </Link>
        </>
      )}
    </p>
  );
}

/** A secret that is shown this once. */
export function Once({ label, secret, children }: { label: string; secret: string; children?: ReactNode }) {
  return (
    <div role="status" className="mt-3 rounded-sheet border border-ink bg-sheet px-3 py-2">
      <p>{label}</p>
      <p className="my-2 font-mono text-lg break-all select-all" data-secret={label}>
        {secret}
      </p>
      {children && <p className="text-sm text-soft">{children}</p>}
    </div>
  );
}
