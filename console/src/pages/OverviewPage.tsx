import { Stack, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { Link } from "react-router";
import { answer, GET, type Overview } from "../api";
import { Findings } from "../parts/Findings";
import { IdleParts } from "../parts/Idle";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { FirstServer, isBegun } from "./FirstServer";

const COUNTS: [string, string, string][] = [
  ["accounts", "accounts", "/accounts"],
  ["groups", "groups", "/groups"],
  ["stores", "stores", "/stores"],
  ["folders", "recorded folders", "/stores"],
  ["entries", "entries", "/stores"],
  ["virtual_paths", "virtual paths", "/virtual-paths"],
  ["endpoints", "endpoints", "/endpoints"],
];
export function OverviewPage() {
  const query = useQuery({ queryKey: ["overview"], queryFn: () => answer(GET("/api/v1/overview")) });
  // It stays until the page is left, and is not gone as soon as its last step is done.
  const setting = useRef(false);
  return (
    <Page title="Overview">
      <Loaded query={query}>
        {(data) => {
          setting.current ||= !isBegun(data.counts);
          return (
            <Stack gap={18}>
              {setting.current && <FirstServer counts={data.counts} />}
              {Object.values(data.counts).some((n) => n > 0) ? (
                <>
                  <Counts counts={data.counts} />
                  <Findings overview={data} />
                  <IdleParts />
                </>
              ) : (
                <Text fz="sm" className="quiet">
                  There is nothing in the model yet. A whole one comes from a file:{" "}
                  <code className="mono">drawknife load FILE</code>.
                </Text>
              )}
              <Text fz="xs" className="quiet">
                Revision {data.revision} is in force.
              </Text>
            </Stack>
          );
        }}
      </Loaded>
    </Page>
  );
}

function Counts({ counts }: { counts: Overview["counts"] }) {
  return (
    <div
      style={{
        display: "grid",
        gridTemplateColumns: "repeat(auto-fit, minmax(120px, 1fr))",
        gap: 10,
      }}
    >
      {COUNTS.map(([key, label, to]) => (
        <Link
          key={key}
          to={to}
          className="sheet"
          style={{ padding: "12px 14px", textDecoration: "none", color: "inherit" }}
        >
          <Text fz={22} fw={650} style={{ fontVariantNumeric: "tabular-nums" }}>
            {(counts[key] ?? 0).toLocaleString("en")}
          </Text>
          <Text fz="xs" className="quiet">
            {label}
          </Text>
        </Link>
      ))}
    </div>
  );
}
