import { answer, type Change, onlyAt, POST } from "../api";

/** Does changes: in force, only at the revision that they were looked at with; or into the draft that is open. */
export async function writeChanges(changes: Change[], draft: string | null, revision?: number): Promise<void> {
  if (draft !== null) {
    await answer(POST("/api/v1/drafts/{name}/changes", { params: { path: { name: draft } }, body: { changes } }));
  } else {
    await answer(POST("/api/v1/changes", { body: { changes }, headers: onlyAt(revision) }));
  }
}
