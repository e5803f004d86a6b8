import { AccountsTab } from "../access/AccountsTab";
import { AuditTab } from "../access/AuditTab";
import { GatewaysTab } from "../access/GatewaysTab";
import { TokensTab } from "../access/TokensTab";
import { PageTabs } from "../parts/PageTabs";

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
  return (
    <>
      <h1 className="text-2xl font-semibold">Access</h1>
      <PageTabs page="/access" by="tab" label="Of access" tabs={tabs} />
    </>
  );
}
