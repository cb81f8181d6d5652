import { ask } from "../api/client";
import type { ProofView } from "../api/types";
import { useFileDrop } from "./useFileDrop";
import { useImport } from "./useImport";

/** Pictures from elsewhere that are dropped on the bench are laid into the shot's sheet. */
export function usePictureDrop(shot: number) {
  const { importing, send } = useImport();
  const { over, handlers } = useFileDrop((files) => {
    void (async () => {
      for (const f of files)
        await send([{ ...f, path: f.file.name }], (id) =>
          ask<ProofView>(
            "POST",
            `/api/parcels/${id}/picture?shot=${shot}&name=${encodeURIComponent(f.file.name)}`,
          ),
        );
    })();
  });
  return { over, handlers, busy: importing && `${importing.name}: ${importing.words}` };
}
