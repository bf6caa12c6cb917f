import { Button, Group, Loader, Modal, Text } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, onlyAt, POST, Problem } from "../api";
import { useDraft, usePast } from "../past";
import { Consequences, ItemDifference } from "./Consequences";
import { useMay } from "./who";

/** Undoing a revision on the model of today: shown first, and then done. */
export function TakeBack({ revision }: { revision: number }) {
  const [open, setOpen] = useState(false);
  const draft = useDraft();
  const may = useMay("editor");
  if (usePast() !== null || draft !== null || !may) return null;
  return (
    <>
      <Button size="compact-xs" variant="subtle" onClick={() => setOpen(true)}>
        Take it back…
      </Button>
      {open && <Asked revision={revision} close={() => setOpen(false)} />}
    </>
  );
}

function Asked({ revision, close }: { revision: number; close: () => void }) {
  const client = useQueryClient();
  const preview = useQuery({
    queryKey: ["back", revision],
    queryFn: () => answer(POST("/api/v1/back/preview", { body: { revision } })),
    retry: false,
    gcTime: 0,
  });
  const back = useMutation({
    mutationFn: () => answer(POST("/api/v1/back", { body: { revision }, headers: onlyAt(preview.data?.revision) })),
    onSuccess: async () => {
      await client.invalidateQueries();
      close();
    },
    onError: () => preview.refetch(),
  });
  const problem = back.error ?? preview.error;
  return (
    <Modal opened onClose={close} size={720} title={`Take back revision ${revision}`}>
      {preview.isFetching && <Loader size="sm" />}
      {problem && (
        <div role="alert" className="bad" style={{ fontSize: 13 }}>
          {problem.message}
          {problem instanceof Problem &&
            problem.places.map((p) => p.message !== problem.message && <div key={p.message}>{p.message}</div>)}
        </div>
      )}
      {preview.data && !preview.error && (
        <section aria-label="What follows" style={{ fontSize: 13 }}>
          {preview.data.items.map((item) => (
            <ItemDifference key={item.section + item.name} item={item} />
          ))}
          {preview.data.item_count === 0 ? (
            <Text fz="sm" className="quiet">
              Nothing is to be done: it is so already.
            </Text>
          ) : (
            <Consequences preview={preview.data} />
          )}
        </section>
      )}
      <Group gap={8} mt={14}>
        <Button
          size="xs"
          disabled={!preview.data?.item_count || !!preview.error}
          loading={back.isPending}
          onClick={() => back.mutate()}
        >
          Take it back
        </Button>
        <Button size="xs" variant="default" onClick={close}>
          Cancel
        </Button>
      </Group>
    </Modal>
  );
}
