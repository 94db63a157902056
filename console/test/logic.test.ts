import { describe, expect, it } from "vitest";
import { older } from "../src/packages/compare";
import { stacked } from "../src/parts/tide-bands";
import { bytes, iec, moment, pieces, plural, span, to } from "../src/parts/text";

describe("the order of package versions", () => {
  // From Debian Policy 5.6.12, and what packers do with it.
  const ordered = [
    "1.0~beta1",
    "1.0~rc1-1",
    "1.0-1",
    "1.0-1+b1",
    "1.0-2",
    "1.0+git1-1",
    "1.0.1",
    "1.2",
    "1.10",
    "1:0.1",
  ];
  it("puts each before the next, and none before itself", () => {
    ordered.forEach((version, i) => {
      ordered.forEach((other, j) =>
        expect(`${version} ${other} ${older(version, other)}`).toBe(`${version} ${other} ${i < j}`),
      );
    });
  });
  it("knows a number that no integer holds", () =>
    expect(older("1.99999999999999999998", "1.99999999999999999999")).toBe(true));
});

describe("the tide chart", () => {
  const band = (number: string, counts: number[]) => ({
    number,
    state: "released",
    released_on: null,
    retire_on: null,
    counts,
  });
  const days = ["2026-11-24", "2026-11-25"];
  it("stacks the newest at the bottom, and every day adds up", () => {
    const bands = stacked({
      line: "gauge",
      days,
      bands: [band("1.0.0", [5, 2]), band("1.1.0", [0, 3]), band("0.9.0", [0, 0])],
    });
    expect(bands.map((one) => one.number)).toEqual(["1.1.0", "1.0.0"]);
    expect(bands[0]!.spans).toEqual([
      [0, 0],
      [0, 3],
    ]);
    expect(bands[1]!.spans).toEqual([
      [0, 5],
      [3, 5],
    ]);
  });
});

describe("words and numbers", () => {
  it("are for people", () => {
    expect(["2 GiB", "1.5kib", "512", "20 GB", "many", "2 GiB x"].map(bytes)).toEqual([
      2 ** 31,
      1536,
      512,
      null,
      null,
      null,
    ]);
    expect([iec(1536), iec(1023), iec(1024 * 1024)]).toEqual(["1.5 KiB", "1023 B", "1.0 MiB"]);
    expect([plural(1, "copy"), plural(2, "copy"), plural(3, "day")]).toEqual(["1 copy", "2 copies", "3 days"]);
    expect([span(0.2), span(65), span(3700)]).toEqual(["less than 1 s", "1 min 5 s", "1 h 1 min"]);
  });
  it("say the year where it is another one", () => {
    const year = new Date().getFullYear();
    expect(moment(`${year + 1}-06-15T12:00:00Z`)).toContain(`15 Jun ${year + 1}`);
    expect(moment(`${year}-06-15T12:00:00Z`)).not.toContain(String(year));
  });
  it("lead to pages", () => {
    expect(to.version("tide-core/gauge@1.2.0", "where")).toBe("/versions/tide-core/gauge@1.2.0?show=where");
    expect(pieces("tide-core/gauge@1.2.0")).toEqual({ account: "tide-core", line: "gauge", number: "1.2.0" });
  });
});
