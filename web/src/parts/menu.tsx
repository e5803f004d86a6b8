import { DropdownMenu as Menu } from "radix-ui";
import type { ReactNode } from "react";

/** How what can be taken in a menu looks. */
export const item =
  "flex cursor-pointer items-center gap-2 rounded-sheet px-2 py-1 outline-none data-highlighted:bg-paper data-disabled:opacity-40";

export const Rule = () => <Menu.Separator className="my-1 h-px bg-rule" />;

interface Props {
  on: boolean;
  onChange: (on: boolean) => void;
  children: ReactNode;
}

/** Something in a menu that is so, or not. */
export function Check({ on, onChange, children }: Props) {
  return (
    <Menu.CheckboxItem className={item} checked={on} onCheckedChange={onChange}>
      <span aria-hidden className="inline-block w-4">
        {on ? "✓" : ""}
      </span>
      {children}
    </Menu.CheckboxItem>
  );
}
