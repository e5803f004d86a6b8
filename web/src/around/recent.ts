import { useEffect } from "react";
import { useAddress } from "../router";

/** A page that was looked at: trends, a board or a series. */
export interface Recent {
  to: string;
  title: string;
}

const key = "recent pages";
const most = 8;

export function recentPages(): Recent[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(key) ?? "[]");
    return Array.isArray(kept) ? (kept as Recent[]) : [];
  } catch {
    return []; // what somebody else wrote there
  }
}

/** Puts a page first; one of the same name takes its place, as ranges and zoom are parts of an address. */
export function notePage(page: Recent) {
  const others = recentPages().filter((r) => r.title !== page.title);
  localStorage.setItem(key, JSON.stringify([page, ...others].slice(0, most)));
}

/** What trends are called: by their series. */
function titleOf(address: URL): string | undefined {
  switch (address.pathname) {
    case "/trends":
      return address.searchParams
        .getAll("lane")
        .map((lane) => lane.slice(lane.indexOf(":") + 1).split("|")[0])
        .filter(Boolean)
        .join("; ");
    case "/series":
      return `series ${address.searchParams.get("path") ?? ""}`;
    default:
      return address.pathname.startsWith("/boards/") ? document.title.split(" – ")[0] : undefined;
  }
}

/** Notes the pages that are looked at for two seconds or more. */
export function useRecentPages() {
  const address = useAddress();
  useEffect(() => {
    const timer = setTimeout(() => {
      const title = titleOf(address);
      if (title) notePage({ to: address.pathname + address.search, title });
    }, 2000);
    return () => clearTimeout(timer);
  }, [address]);
}
