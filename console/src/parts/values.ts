/** Values as people read them. */

const UNITS = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

export function size(bytes: number): string {
  let power = 0;
  let amount = bytes;
  while (amount >= 1024 && power < UNITS.length - 1) {
    amount /= 1024;
    power++;
  }
  return `${power ? Number(amount.toPrecision(amount < 1000 ? 3 : 4)) : bytes} ${UNITS[power]}`;
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
