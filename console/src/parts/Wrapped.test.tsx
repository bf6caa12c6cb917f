// @vitest-environment jsdom
import { render } from "@testing-library/react";
import { expect, test } from "vitest";
import { Wrapped } from "./Wrapped";

test.each([
  ["survey:/charts/drafts", "survey:/|charts/|drafts"],
  ["may not enter survey:/: add a line on survey:/ or /a", "may not enter survey:/: add a line on survey:/ or /|a"],
  ["no path", "no path"],
])("%s goes on in a new line after a slash only, and is the same text", (text, parts) => {
  const { container } = render(<Wrapped text={text} />);
  expect(container.textContent).toBe(text);
  expect(container.innerHTML.split("<wbr>").join("|")).toBe(parts);
});
