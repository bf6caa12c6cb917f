import type { Line } from "../api";

/** A line with its end and its note. */
export function LineText({ line }: { line: Line }) {
  return (
    <div>
      <span className={line.ended ? "mono quiet" : "mono"}>{line.line}</span>
      {line.until && (
        <span className="state-own line-end">
          {" "}
          {line.ended ? "ended with" : "until"} {line.until}
        </span>
      )}
      <Note note={line.note} />
    </div>
  );
}

/** Why something is there. */
export function Note({ note }: { note: string | null | undefined }) {
  return note ? <span className="quiet note"> “{note}”</span> : null;
}

/** Text with what stands in backticks set as code. */
export function Code({ text }: { text: string }) {
  return (
    <>
      {text.split("`").map((part, i) =>
        i % 2 ? (
          <span key={i} className="mono">
            {part}
          </span>
        ) : (
          part
        ),
      )}
    </>
  );
}
