/** Values as people read them. */

const UNITS = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

/** The power of 1024 in whose unit a size is told. */
function powerOf(bytes: number): number {
  let power = 0;
  for (let amount = bytes; amount >= 1024 && power < UNITS.length - 1; amount /= 1024) power++;
  return power;
}

function inUnit(bytes: number, power: number): string {
  const amount = bytes / 1024 ** power;
  return `${power ? Number(amount.toPrecision(amount < 1000 ? 3 : 4)) : bytes} ${UNITS[power]}`;
}

export function size(bytes: number): string {
  return inUnit(bytes, powerOf(bytes));
}

/** How a size has become another: both in the unit of the larger one, and the difference. */
export function sizes(before: number, after: number): string {
  const power = powerOf(Math.max(before, after));
  const sign = after < before ? "−" : "+";
  return `${inUnit(before, power)} → ${inUnit(after, power)} (${sign}${size(Math.abs(after - before))})`;
}

/** The bytes of a size as an item has it, `40 GiB`, `1.5 GB`, or a number; null of anything else. */
export function bytesOf(value: unknown): number | null {
  if (typeof value === "number") return value;
  const found = typeof value === "string" && /^(\d+(?:\.\d+)?)(?: ?([KMGTP])?(i)?B)?$/.exec(value);
  if (!found) return null;
  const [, amount, letter, binary] = found;
  return Math.floor(Number(amount) * (binary ? 1024 : 1000) ** (letter ? " KMGTP".indexOf(letter) : 0));
}

export function shown(name: string, value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (typeof value === "number") {
    if (name === "quota_bytes" || name === "upload_limit") return size(value);
    if (name.startsWith("rate")) return `${size(value)}/s`;
    return name === "idle_timeout" ? `${value} s` : String(value);
  }
  if (Array.isArray(value)) {
    if (name === "addresses" || name === "hours")
      return value.map((lines) => (lines as string[]).join(", ")).join(" and ") || "any";
    return value.join(", ") || "none";
  }
  return value === null ? "none" : String(value);
}
