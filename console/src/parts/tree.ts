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

/** Which columns of a map are shown: those that are the same as the one above, for all its rows, are counted below it,
 * but where that is opened. */
export function foldColumns(
  locations: string[],
  cells: (string | null)[][],
  opened: ReadonlySet<string>,
): { shown: number[]; below: number[] } {
  const places = new Map(locations.map((location, j) => [location, j]));
  const above = (location: string): number | undefined => {
    for (let at = location; at !== "/"; ) {
      at = parentOf(at);
      const found = places.get(at);
      if (found !== undefined) return found;
    }
  };
  const shownAt: number[] = [];
  const below = new Map<number, number>();
  locations.forEach((location, j) => {
    const up = above(location);
    const into = up === undefined ? undefined : shownAt[up];
    if (up !== undefined && into !== undefined && cells.every((row) => row[up] === row[j])) {
      if (!opened.has(locations[into] ?? "")) {
        shownAt[j] = into;
        below.set(into, (below.get(into) ?? 0) + 1);
        return;
      }
      // Opened: what is below stands there by itself, and is folded no more.
      shownAt[j] = into;
      below.set(j, 0);
      return;
    }
    shownAt[j] = j;
    below.set(j, 0);
  });
  const shown = [...below.keys()].sort((a, b) => a - b);
  return { shown, below: shown.map((j) => below.get(j) ?? 0) };
}

/** The end of a text that is too long, which is where locations differ. */
export function tail(text: string, length: number): string {
  return text.length <= length ? text : `…${text.slice(1 - length)}`;
}
