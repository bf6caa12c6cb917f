import { Anchor, Breadcrumbs, Stack, Text } from "@mantine/core";
import { IconFolder, IconRoute } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { answer, GET } from "../api";
import { PlaceLink } from "../parts/marks";
import { Empty, Loaded } from "../parts/states";

/** The namespace as the account meets it: folder by folder, what is hidden left out. */
export function Browse({ account, endpoint }: { account: string; endpoint?: string }) {
  const [search, setSearch] = useSearchParams();
  const location = search.get("at") ?? "/";
  const go = (at: string) => {
    const next = new URLSearchParams(search);
    next.set("at", at);
    setSearch(next);
  };
  const query = useQuery({
    queryKey: ["listing", account, location, endpoint],
    queryFn: () =>
      answer(
        GET("/api/v1/accounts/{name}/listing", { params: { path: { name: account }, query: { location, endpoint } } }),
      ),
  });
  const steps = location === "/" ? [] : location.slice(1).split("/");
  return (
    <Stack gap={10}>
      <Breadcrumbs fz="sm">
        <Anchor component="button" onClick={() => go("/")}>
          {account}
        </Anchor>
        {steps.map((step, i) => (
          <Anchor component="button" key={i} onClick={() => go(`/${steps.slice(0, i + 1).join("/")}`)}>
            {step}
          </Anchor>
        ))}
      </Breadcrumbs>
      <div className="sheet">
        <Loaded query={query}>
          {(listing) =>
            !listing.allowed ? (
              <Empty>{listing.text}</Empty>
            ) : listing.folders.length === 0 ? (
              <Empty>It sees no folders here.</Empty>
            ) : (
              listing.folders.map((f) => (
                <div
                  key={f.name}
                  className="row"
                  style={{ gridTemplateColumns: "24px 260px 140px 1fr", height: 34 }}
                  role="link"
                  tabIndex={0}
                  onClick={() => go(f.location)}
                  onKeyDown={(e) => e.key === "Enter" && go(f.location)}
                >
                  {f.kind === "folder" ? <IconFolder size={16} stroke={1.5} /> : <IconRoute size={16} stroke={1.5} />}
                  <span className="mono">{f.name}</span>
                  <span className="quiet">{f.kind}</span>
                  <span>{f.place && <PlaceLink place={f.place} />}</span>
                </div>
              ))
            )
          }
        </Loaded>
      </div>
      <Text fz="xs" className="quiet">
        Folders that the account cannot enter are hidden, unless the virtual path lists all. Files are on disk, not in
        the model.
      </Text>
    </Stack>
  );
}
