import { Button, Text } from "@mantine/core";
import { IconPencilCheck } from "@tabler/icons-react";
import { useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { named } from "../api";
import { askIn, useDraft } from "../past";

/** Opens a draft, or none (null): everything is asked anew. */
export function useOpenDraft() {
  const client = useQueryClient();
  return (draft: string | null) => {
    askIn(draft);
    client.removeQueries({ predicate: (query) => query.queryKey[0] !== "session" });
  };
}

/** What cannot be overlooked while a draft is open: all is shown as it would be, and changes go into it. */
export function DraftBanner() {
  const draft = useDraft();
  const open = useOpenDraft();
  if (draft === null) return null;
  return (
    <div role="status" aria-label="The draft" className="past draft">
      <IconPencilCheck size={17} />
      <Text fz="sm">
        <b>
          As it would be with draft <Link to={`/drafts/${named(draft)}`}>{draft}</Link>
        </b>
        . Changes go into it, and nothing of it is in force.
      </Text>
      <span style={{ flex: 1 }} />
      <Button size="compact-xs" variant="white" color="dark" onClick={() => open(null)}>
        Close the draft
      </Button>
    </div>
  );
}
