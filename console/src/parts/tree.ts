/** How locations in tree order are drawn: how deep, and what is left of the name under the row above. */
export interface TreeLabel {
  depth: number;
  label: string;
}

const parentOf = (location: string) => location.slice(0, location.lastIndexOf("/")) || "/";

export function treeLabels(locations: string[]): TreeLabel[] {
  const depths = new Map<string, number>();
  return locations.map((location) => {
    let above: string | null = null;
    for (let at = location; at !== "/" && above === null; ) {
      at = parentOf(at);
      if (depths.has(at)) above = at;
    }
    const depth = above === null ? 0 : (depths.get(above) ?? 0) + 1;
    depths.set(location, depth);
    if (above === null) return { depth, label: location };
    return { depth, label: above === "/" ? location.slice(1) : location.slice(above.length + 1) };
  });
}

/** The end of a text that is too long, which is where locations differ. */
export function tail(text: string, length: number): string {
  return text.length <= length ? text : `…${text.slice(1 - length)}`;
}
