import { Button, Loader, Stack, Text } from "@mantine/core";
import { IconCircleDashed, IconCloudOff, IconZoomQuestion } from "@tabler/icons-react";
import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Problem } from "../api";

export function Empty({ children }: { children: ReactNode }) {
  return (
    <Stack align="center" gap={6} py={48} className="quiet">
      <IconCircleDashed size={28} stroke={1.3} />
      <Text fz="sm" ta="center" maw={440}>
        {children}
      </Text>
    </Stack>
  );
}

export function Failed({ error, again }: { error: Error; again?: () => void }) {
  const away = error instanceof Problem && (error.status === 503 || error.status === 0);
  const Icon = away ? IconCloudOff : IconZoomQuestion;
  return (
    <Stack align="center" gap={10} py={48} role="alert">
      <Icon size={30} stroke={1.3} className="bad" />
      <Text fw={600}>{error instanceof Problem && error.title ? error.title : "That did not work"}</Text>
      <Text fz="sm" className="quiet" ta="center" maw={520}>
        {error.message}
      </Text>
      {error instanceof Problem && error.places.some((place) => place.line) && (
        <ul style={{ margin: 0, fontSize: 13, maxWidth: 720 }}>
          {error.places.map((place) => (
            <li key={`${place.line} ${place.where} ${place.message}`}>
              line {place.line}: <span className="mono">{place.where}</span>: {place.message}
              {place.expected && <span className="quiet">; expected {place.expected}</span>}
            </li>
          ))}
        </ul>
      )}
      {again && (
        <Button variant="default" size="xs" onClick={again}>
          Try again
        </Button>
      )}
    </Stack>
  );
}

/** What a query brought, or its loading or failing state. */
export function Loaded<T>({ query, children }: { query: UseQueryResult<T>; children: (data: T) => ReactNode }) {
  if (query.error) return <Failed error={query.error} again={() => query.refetch()} />;
  if (query.data === undefined) {
    return (
      <Stack align="center" py={48}>
        <Loader size="sm" />
      </Stack>
    );
  }
  return <>{children(query.data)}</>;
}
