import { lowest, nothing, type LaneKind } from "./kind";

const lettersInALine = 60;

const linesOf = (text: string) =>
  text.split("\n").reduce((n, line) => n + Math.max(1, Math.ceil(line.length / lettersInALine)), 0);

export const text: LaneKind = {
  ...nothing,
  name: "text",
  title: () => "",
  height: () => lowest,
  onWall: (_, lane) => {
    const all = 8 + 24 * linesOf(lane.text ?? "");
    return { least: all, most: all };
  },
};
