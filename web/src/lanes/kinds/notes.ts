import { lowest, nothing, type LaneKind } from "./kind";

export const notes: LaneKind = {
  ...nothing,
  name: "notes and outages",
  title: () => "Notes and outages",
  height: () => lowest,
  onWall: () => ({ least: lowest, most: lowest }),
};
