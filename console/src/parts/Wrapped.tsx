import { Fragment } from "react";

/** A text that goes on in a new line after a slash of its paths, rather than within a name; it is copied as it is. */
export function Wrapped({ text }: { text: string }) {
  const parts = text.split(/(?<=\/)(?=[^/\s:,;.)`])/);
  return parts.map((part, i) => (
    <Fragment key={parts.slice(0, i).join("")}>
      {i > 0 && <wbr />}
      {part}
    </Fragment>
  ));
}
