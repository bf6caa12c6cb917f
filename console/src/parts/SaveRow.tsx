import { Button, Group } from "@mantine/core";

interface Props {
  ready: boolean;
  saving: boolean;
  word?: string;
  removable: boolean;
  removing: boolean;
  setRemoving: (removing: boolean) => void;
  close: () => void;
}

/** The buttons at the end of a form: save or cancel; and remove, which is asked once more. */
export function SaveRow({ ready, saving, word = "Save", removable, removing, setRemoving, close }: Props) {
  return (
    <Group justify="space-between" mt={8}>
      <Group gap={8}>
        <Button type="submit" size="xs" color={removing ? "red.8" : undefined} disabled={!ready} loading={saving}>
          {removing ? "Remove" : word}
        </Button>
        <Button size="xs" variant="default" onClick={removing ? () => setRemoving(false) : close}>
          {removing ? "Keep it" : "Cancel"}
        </Button>
      </Group>
      {removable && !removing && (
        <Button size="xs" variant="subtle" color="red.8" onClick={() => setRemoving(true)}>
          Remove…
        </Button>
      )}
    </Group>
  );
}
