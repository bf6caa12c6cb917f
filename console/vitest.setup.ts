// What jsdom does not have, and Mantine asks for.
import { cleanup, configure } from "@testing-library/react";
import { afterEach, vi } from "vitest";

configure({ asyncUtilTimeout: 10_000 });
if (typeof window !== "undefined") {
  window.matchMedia ??= vi.fn().mockImplementation((query: string) => ({
    matches: false,
    media: query,
    addEventListener: () => undefined,
    removeEventListener: () => undefined,
  }));
  window.ResizeObserver ??= class {
    observe() {}
    unobserve() {}
    disconnect() {}
  };
  if (!document.fonts) {
    const fonts = { addEventListener: () => undefined, removeEventListener: () => undefined };
    Object.defineProperty(document, "fonts", { value: fonts });
  }
  Element.prototype.scrollIntoView ??= () => undefined;
  afterEach(cleanup);
}
