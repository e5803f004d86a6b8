import { useState } from "react";
import { recentPages } from "../around/recent";
import { words } from "../format";
import { Link } from "../parts/Link";
import { addressOfBoard, useBoards } from "./useBoards";

const link = "underline decoration-rule underline-offset-4 hover:decoration-water";

/** Where to begin: what was looked at lately, and the boards of sites. */
export function Starts() {
  const [recent] = useState(recentPages);
  const boards = useBoards("").data?.boards ?? [];
  const ofSites = boards.filter((b) => b.about && !b.about.includes("/"));
  return (
    <div className="mt-6 grid grid-cols-1 gap-6 sm:grid-cols-2" data-starts>
      {recent.length > 0 && (
        <section aria-label="Recent pages">
          <h2 className="border-b border-rule pb-1 text-lg">Recent pages</h2>
          <ul className="mt-2 flex flex-col gap-1">
            {recent.map((r) => (
              <li key={r.title} className="truncate">
                <Link to={r.to} className={link}>
                  {r.title}
                </Link>
              </li>
            ))}
          </ul>
        </section>
      )}
      {ofSites.length > 0 && (
        <section aria-label="Boards of sites">
          <h2 className="border-b border-rule pb-1 text-lg">Boards of sites</h2>
          <ul className="mt-2 flex flex-col gap-1">
            {ofSites.map((b) => (
              <li key={b.about + b.id} className="truncate">
                <Link to={addressOfBoard(b)} className={link}>
                  {b.title || words(b.about)}
                </Link>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}
