import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";
import { Refusal, Unreachable } from "../api/client";
import { Failed } from "./Said";

describe("what went wrong", () => {
  it("leads to what the manual says of a refusal", () => {
    const said = renderToStaticMarkup(<Failed error={new Refusal("unknown_series", "no series matches")} />);
    expect(said).toContain("no series matches");
    expect(said).toContain('href="/docs/refusals#unknown_series"');
  });
  it("is said alone where no service said it", () => {
    expect(renderToStaticMarkup(<Failed error={new Unreachable("away")} />)).not.toContain("href");
    expect(renderToStaticMarkup(<Failed error={new Refusal("", "HTTP 404")} />)).not.toContain("href");
    expect(renderToStaticMarkup(<Failed error={null} />)).toBe("");
  });
});
