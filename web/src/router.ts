import { useCallback, useMemo } from "react";
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
