import type { ReactNode } from "react";

/** What went wrong, or nothing. */
export function Failed({ error }: { error: Error | null | undefined }) {
  if (!error) return null;
  return (
    <p role="alert" className="mt-3 whitespace-pre-wrap text-bad">
      {error.message}
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
