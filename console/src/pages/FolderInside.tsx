import { Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { Link } from "react-router";
import { answer, GET, type Inside, RIGHTS } from "../api";
import { Code } from "../parts/Line";
import { AccountLink, MARKS, MEANINGS, Stairs } from "../parts/marks";
import { Loaded } from "../parts/states";

const CELL = 26;
const LABEL = 230;

/** Who can do what in a folder, in place: those together that can do the same, and what gives it to them. */
export function FolderInside({ place }: { place: string }) {
  const query = useQuery({
    queryKey: ["inside", place],
    queryFn: () => answer(GET("/api/v1/folders/inside", { params: { query: { place } } })),
  });
  return (
    <section aria-label="Who can do what here">
      <Text fw={650} mb={8}>
        Who can do what here
      </Text>
      <Loaded query={query}>{(found) => <Lines found={found} />}</Loaded>
    </section>
  );
}

function Lines({ found }: { found: Inside }) {
  if (!found.rows.length) {
    return (
      <Text fz="sm" className="quiet">
        Nobody can do anything here{found.seeing > 0 && `, though ${found.seeing} accounts are led here`}.
      </Text>
    );
  }
  return (
    <>
      <div className="sheet" style={{ overflowX: "auto" }} role="region" aria-label="Rights here" {...SCROLLED}>
        <div style={{ padding: "8px 14px 0", borderBottom: "1px solid var(--edge)", minWidth: LABEL + 430 }}>
          <Stairs width={CELL} left={LABEL} />
        </div>
        {found.rows.map((row) => (
          <div
            key={row.accounts.join() + row.locations.join()}
            style={{
              display: "grid",
              gridTemplateColumns: `${LABEL}px ${CELL * RIGHTS.length}px minmax(120px, 1fr)`,
              padding: "6px 14px",
              borderBottom: "1px solid var(--edge)",
              fontSize: 13,
            }}
          >
            <div style={{ paddingRight: 12 }}>
              {row.accounts.map((name, i) => (
                <Fragment key={name}>
                  {i > 0 && ", "}
                  <AccountLink name={name} />
                </Fragment>
              ))}
              {row.account_count > row.accounts.length && (
                <span className="quiet">
                  {" "}
                  and {(row.account_count - row.accounts.length).toLocaleString("en")} more
                </span>
              )}
            </div>
            <div style={{ display: "flex" }}>
              {RIGHTS.map((right) => {
                const state = row.rights[right] ?? "no";
                return (
                  <Link
                    key={right}
                    to={`/who?right=${right}&at=${encodeURIComponent(found.place)}`}
                    className="cell"
                    title={`${right}: ${MEANINGS[state]}`}
                    aria-label={`Who can ${right} here: ${MEANINGS[state]} for ${row.accounts[0]}`}
                    style={{ width: CELL, textAlign: "center", textDecoration: "none" }}
                  >
                    <span className={`state-${state}`}>{MARKS[state]}</span>
                  </Link>
                );
              })}
            </div>
            <div className="quiet" style={{ fontSize: 12.5, paddingLeft: 10 }}>
              {row.account_count > 1 && <span>{row.accounts[0]}: </span>}
              {row.by.map((line) => (
                <div key={line}>
                  <Code text={`\`${line.replace(" on ", "` on ")}`} />
                </div>
              ))}
            </div>
          </div>
        ))}
      </div>
      {found.seeing > 0 && (
        <Text fz="sm" className="quiet" mt={6}>
          {found.seeing.toLocaleString("en")} more {found.seeing === 1 ? "account is" : "accounts are"} led here, and
          can do nothing.
        </Text>
      )}
      {found.notes.map((note) => (
        <Text key={note} fz="xs" className="quiet" mt={4}>
          {note}
        </Text>
      ))}
    </>
  );
}

/** What scrolls has to be reached by keys. */
const SCROLLED = { tabIndex: 0 };
