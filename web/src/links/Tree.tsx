import type { Below } from "../api/client";

interface Props {
  above: string[]; // the highest first
  below: Below[];
}

/** Who sends to whom, from the highest central down. */
export function Tree({ above, below }: Props) {
  const [first, ...rest] = above;
  return (
    <ul className="border-l border-rule pl-4" data-tree>
      {first === undefined ? (
        <li>
          <strong>this service</strong>
          <Senders all={below} />
        </li>
      ) : (
        <li>
          {first}
          <Tree above={rest} below={below} />
        </li>
      )}
    </ul>
  );
}

function Senders({ all }: { all: Below[] }) {
  if (all.length === 0) return null;
  return (
    <ul className="border-l border-rule pl-4">
      {all.map((b) => (
        <li key={b.name}>
          {b.name} <span className={b.up ? "text-good" : "text-bad"}>{b.up ? "up" : "down"}</span>
          <Senders all={b.below} />
        </li>
      ))}
    </ul>
  );
}
