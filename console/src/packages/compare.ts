/** Debian's order of versions (Debian Policy, section 5.6.12), which also serves the numbers of other packers. */

const weight = (char: string | undefined) =>
  char === "~"
    ? -1
    : char === undefined || /\d/.test(char)
      ? 0
      : /[a-z]/i.test(char)
        ? char.charCodeAt(0)
        : char.charCodeAt(0) + 256;

function part(a: string, b: string): number {
  let i = 0;
  let j = 0;
  while (i < a.length || j < b.length) {
    while ((i < a.length && !/\d/.test(a[i]!)) || (j < b.length && !/\d/.test(b[j]!))) {
      const by = weight(a[i]) - weight(b[j]);
      if (by) return by;
      i++;
      j++;
    }
    const one = /^\d*/.exec(a.slice(i))![0];
    const other = /^\d*/.exec(b.slice(j))![0];
    const by = BigInt(one || "0") - BigInt(other || "0");
    if (by) return by < 0n ? -1 : 1;
    i += one.length;
    j += other.length;
  }
  return 0;
}

function cut(version: string) {
  const [, epoch = "0", rest = ""] = /^(?:(\d+):)?(.*)$/.exec(version)!;
  const dash = rest.lastIndexOf("-");
  return {
    epoch: Number(epoch),
    upstream: dash < 0 ? rest : rest.slice(0, dash),
    revision: dash < 0 ? "" : rest.slice(dash + 1),
  };
}

/** Whether a version comes before another one. */
export function older(version: string, than: string): boolean {
  const a = cut(version);
  const b = cut(than);
  return (a.epoch - b.epoch || part(a.upstream, b.upstream) || part(a.revision, b.revision)) < 0;
}
