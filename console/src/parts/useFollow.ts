import type { MouseEvent } from "react";
import { useNavigate } from "react-router";

/** useFollow makes a button that leads to a page a link: it has an address, and opens in a tab of its own where that is asked for. */
export function useFollow() {
  const navigate = useNavigate();
  return (to: string) => ({
    href: to,
    onClick: (e: MouseEvent) => {
      if (e.metaKey || e.ctrlKey || e.shiftKey || e.button !== 0) return;
      e.preventDefault();
      void navigate(to);
    },
  });
}
