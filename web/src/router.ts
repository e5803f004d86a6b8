import { useCallback, useEffect, useMemo } from "react";
import { useLocation, useNavigate } from "react-router";

/* The address is the only place where what is shown is kept, so that every view can
   be bookmarked and sent to somebody. */

export function useAddress(): URL {
  const { pathname, search } = useLocation();
  return useMemo(() => new URL(pathname + search, location.origin), [pathname, search]);
}

export function useGo(): (to: string, replace?: boolean) => void {
  const navigate = useNavigate();
  return useCallback((to: string, replace = false) => void navigate(to, { replace }), [navigate]);
}

/** Follows links to other pages without loading the console anew; one that asks for a tab of its own, as
 *  with Ctrl, is left to the browser. */
export function useInnerLinks() {
  const go = useGo();
  useEffect(() => {
    const follow = (e: MouseEvent) => {
      const link = (e.target as Element).closest?.("a[data-inner]");
      const plain = e.button === 0 && !e.ctrlKey && !e.metaKey && !e.shiftKey && !e.altKey;
      if (!link || !plain || e.defaultPrevented) return;
      e.preventDefault();
      const to = link.getAttribute("href") ?? "/";
      go(to, new URL(to, location.href).href === location.href); // the same place is no step to come back from
    };
    document.addEventListener("click", follow);
    return () => document.removeEventListener("click", follow);
  }, [go]);
}
