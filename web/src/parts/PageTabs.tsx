import { Tabs } from "radix-ui";
import type { ComponentType } from "react";
import { useAddress, useGo } from "../router";

interface Tab {
  at: string;
  name: string;
  says: string;
  show: ComponentType;
}

interface Props {
  /** Of the page, such as /field. */
  page: string;
  /** The parameter of the address that says which tab is shown. */
  by: string;
  label: string;
  tabs: Tab[];
}

/** The parts of a page, of which one is shown; the address says which. */
export function PageTabs({ page, by, label, tabs }: Props) {
  const go = useGo();
  const shown = useAddress().searchParams.get(by) ?? tabs[0]?.at;
  return (
    <Tabs.Root value={shown} onValueChange={(at) => go(`${page}?${by}=${at}`)} className="mt-4">
      <Tabs.List aria-label={label} className="flex flex-wrap gap-1 border-b border-rule">
        {tabs.map((t) => (
          <Tabs.Trigger
            key={t.at}
            value={t.at}
            className="-mb-px border-b-2 border-transparent px-3 py-1 data-[state=active]:border-ink data-[state=active]:font-semibold"
          >
            {t.name}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      {tabs.map((t) => (
        <Tabs.Content key={t.at} value={t.at} className="mt-3">
          <p className="mb-4 text-soft">{t.says}</p>
          <t.show />
        </Tabs.Content>
      ))}
    </Tabs.Root>
  );
}
