import { Tabs } from "radix-ui";
import { useHealth } from "../api/hooks";
import { CheckTool } from "../field/CheckTool";
import { DiscoveredTool } from "../field/DiscoveredTool";
import { RegistersTool } from "../field/RegistersTool";
import { RejectsTool } from "../field/RejectsTool";
import { TopicsTool } from "../field/TopicsTool";
import { TryTool } from "../field/TryTool";
import { go, useAddress } from "../router";

const tools = [
  {
    at: "topics",
    name: "Topics",
    says: "What a broker carries, or what devices publish here.",
    show: TopicsTool,
  },
  {
    at: "registers",
    name: "Registers",
    says: "What a Modbus device holds, and what that may mean.",
    show: RegistersTool,
  },
  {
    at: "discovered",
    name: "Discovered",
    says: "Series that were found as they appeared, and the rules that would name them.",
    show: DiscoveredTool,
  },
  {
    at: "try",
    name: "Try",
    says: "One payload sent the whole way of a source; nothing is stored.",
    show: TryTool,
  },
  {
    at: "check",
    name: "Check",
    says: "The configuration's file as it is now: its mistakes, what it reaches, and what it costs.",
    show: CheckTool,
  },
  {
    at: "rejects",
    name: "Rejects",
    says: "What was refused, by which rule, and another chance for it.",
    show: RejectsTool,
  },
];

/** The tools of commissioning. */
export function FieldPage() {
  const health = useHealth();
  const tool = useAddress().searchParams.get("tool") ?? "topics";
  if (health.data && !health.data.gateway) {
    return (
      <>
        <h1 className="text-2xl font-semibold">Field</h1>
        <p className="mt-4">
          This service collects nothing itself; open the console of a gateway at its site.
        </p>
      </>
    );
  }
  return (
    <>
      <h1 className="text-2xl font-semibold">Field</h1>
      <Tabs.Root value={tool} onValueChange={(at) => go(`/field?tool=${at}`)} className="mt-4">
        <Tabs.List aria-label="Tools" className="flex flex-wrap gap-1 border-b border-rule">
          {tools.map((t) => (
            <Tabs.Trigger
              key={t.at}
              value={t.at}
              className="-mb-px border-b-2 border-transparent px-3 py-1 data-[state=active]:border-ink data-[state=active]:font-semibold"
            >
              {t.name}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        {tools.map((t) => (
          <Tabs.Content key={t.at} value={t.at} className="mt-3">
            <p className="mb-4 text-soft">{t.says}</p>
            <t.show />
          </Tabs.Content>
        ))}
      </Tabs.Root>
    </>
  );
}
