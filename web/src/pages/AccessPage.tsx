import { Tabs } from "radix-ui";
import { AccountsTab } from "../access/AccountsTab";
import { AuditTab } from "../access/AuditTab";
import { GatewaysTab } from "../access/GatewaysTab";
import { TokensTab } from "../access/TokensTab";
import { go, useAddress } from "../router";

const tabs = [
  {
    at: "accounts",
    name: "Accounts",
    says: "People, what they may do, and what they see.",
    show: AccountsTab,
  },
  { at: "tokens", name: "Tokens", says: "Scripts and senders.", show: TokensTab },
  {
    at: "gateways",
    name: "Gateways",
    says: "Those that joined this central with a code.",
    show: GatewaysTab,
  },
  { at: "audit", name: "Audit", says: "Who did what, when, and what was refused.", show: AuditTab },
];

/** Who may do what, for administrators. */
export function AccessPage() {
  const tab = useAddress().searchParams.get("tab") ?? "accounts";
  return (
    <>
      <h1 className="text-2xl font-semibold">Access</h1>
      <Tabs.Root value={tab} onValueChange={(at) => go(`/access?tab=${at}`)} className="mt-4">
        <Tabs.List aria-label="Of access" className="flex flex-wrap gap-1 border-b border-rule">
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
    </>
  );
}
