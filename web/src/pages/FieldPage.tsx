import { useHealth } from "../api/hooks";
import { CheckTool } from "../field/CheckTool";
import { DiscoveredTool } from "../field/DiscoveredTool";
import { RegistersTool } from "../field/RegistersTool";
import { TopicsTool } from "../field/TopicsTool";
import { TryTool } from "../field/TryTool";
import { PageTabs } from "../parts/PageTabs";

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
];

/** The tools of commissioning. */
export function FieldPage() {
  const health = useHealth();
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
      <PageTabs page="/field" by="tool" label="Tools" tabs={tools} />
    </>
  );
}
