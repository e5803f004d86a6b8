import { Moon, Sun } from "lucide-react";
import { Toggle } from "radix-ui";
import { useState } from "react";
import { coloursChanged } from "../signal";

export function ThemeButton() {
  const [dark, setDark] = useState(document.documentElement.dataset.theme === "dark");
  const change = (next: boolean) => {
    document.documentElement.dataset.theme = next ? "dark" : "light";
    localStorage.setItem("theme", next ? "dark" : "light");
    coloursChanged.tell();
    setDark(next);
  };
  const Sign = dark ? Sun : Moon;
  return (
    <Toggle.Root
      pressed={dark}
      onPressedChange={change}
      className="rounded-sheet px-2 py-1 text-soft hover:bg-sheet"
    >
      <Sign size={16} aria-hidden className="inline sm:hidden" />
      <span className="sr-only sm:not-sr-only">{dark ? "Light" : "Dark"}</span>
    </Toggle.Root>
  );
}
