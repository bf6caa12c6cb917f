import { Button, Group, Popover, Stack, Text, TextInput } from "@mantine/core";
import { IconClockHour4 } from "@tabler/icons-react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, GET } from "../api";
import { askOf, usePast } from "../past";
import { moment } from "./time";

/** Chooses the past that all pages show: a revision, or a day and a time. */
export function PastButton() {
  const [open, setOpen] = useState(false);
  const [time, setTime] = useState("");
  const [revision, setRevision] = useState("");
  const show = useShow();
  const chosen = revision.trim() || (time && new Date(time).toISOString());
  return (
    <Popover opened={open} onChange={setOpen} position="right-end" width={280} trapFocus>
      <Popover.Target>
        <Button
          variant="subtle"
          color="gray"
          size="compact-sm"
          justify="flex-start"
          fw={400}
          leftSection={<IconClockHour4 size={16} stroke={1.6} />}
          onClick={() => setOpen((is) => !is)}
        >
          Look at the past
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            if (!chosen) return;
            show(chosen);
            setOpen(false);
          }}
        >
          <Stack gap={8}>
            <TextInput
              size="xs"
              label="As of"
              type="datetime-local"
              value={time}
              onChange={(e) => setTime(e.currentTarget.value)}
            />
            <TextInput
              size="xs"
              label="or revision"
              inputMode="numeric"
              value={revision}
              onChange={(e) => setRevision(e.currentTarget.value)}
            />
            <Button type="submit" size="xs" disabled={!chosen}>
              Show it
            </Button>
          </Stack>
        </form>
      </Popover.Dropdown>
    </Popover>
  );
}

/** Shows a past, or today (null): everything is asked anew. */
function useShow() {
  const client = useQueryClient();
  return (past: string | null) => {
    askOf(past);
    client.removeQueries({ predicate: (query) => query.queryKey[0] !== "session" });
  };
}

/** What cannot be overlooked while the past is shown. */
export function PastBanner() {
  const past = usePast();
  const show = useShow();
  const then = useQuery({
    queryKey: ["past", past],
    queryFn: () => answer(GET("/api/v1/overview")),
    enabled: past !== null,
    retry: false,
  });
  if (past === null) return null;
  const when = /^\d+$/.test(past) ? "" : ` as of ${moment(past)}`;
  return (
    <div role="status" aria-label="The past" className="past">
      <IconClockHour4 size={17} />
      {then.error ? (
        <Text fz="sm">{then.error.message}</Text>
      ) : (
        <Text fz="sm">
          <b>This is the past{when}</b>
          {then.data && `: revision ${then.data.revision}`}. Nothing can be changed here; directories, credentials and
          the journal are of today, and what accounts had to sign in with then is not known.
        </Text>
      )}
      <span style={{ flex: 1 }} />
      <Button size="compact-xs" variant="white" color="dark" onClick={() => show(null)}>
        Back to today
      </Button>
    </div>
  );
}

/** A revision shown as the past. */
export function ShowRevision({ revision }: { revision: number }) {
  const show = useShow();
  return (
    <Group gap={0}>
      <Button size="compact-xs" variant="subtle" onClick={() => show(String(revision))}>
        Look at it
      </Button>
    </Group>
  );
}
