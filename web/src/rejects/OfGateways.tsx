import { useUplinks } from "../api/hooks";
import { words } from "../format";

/** At a central: that each gateway keeps what it refuses, and which gateways there are. */
export function OfGateways() {
  const receiving = useUplinks().data?.receiving ?? [];
  if (receiving.length === 0) return null;
  return (
    <p className="mt-2 max-w-prose text-soft" data-of-gateways>
      This page covers only this central. Each gateway keeps its own rejects, and its own console shows them:{" "}
      {receiving.map((u, i) => (
        <span key={u.gateway}>
          {i > 0 && ", "}
          {u.console ? (
            <a href={`${u.console}/rejects`} className="underline">
              {words(u.gateway)}
            </a>
          ) : (
            words(u.gateway)
          )}
        </span>
      ))}
      .
    </p>
  );
}
