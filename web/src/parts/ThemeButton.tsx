import { Toggle } from "radix-ui";
import { useState } from "react";

export function ThemeButton() {
  const [dark, setDark] = useState(document.documentElement.dataset.theme === "dark");
  const change = (next: boolean) => {
    document.documentElement.dataset.theme = next ? "dark" : "light";
    localStorage.setItem("theme", next ? "dark" : "light");
    dispatchEvent(new Event("themechange"));
    setDark(next);
  };
  return (
    <Toggle.Root
      pressed={dark}
      onPressedChange={change}
      className="rounded-sheet px-2 py-1 text-soft hover:bg-sheet"
    >
      {dark ? "Light" : "Dark"}
    </Toggle.Root>
  );
}
