import { useRef, useState } from "react";
import { ask, upload } from "../api/client";
import type { Parcel } from "../api/types";
import { size } from "../app/format";
import { useAct } from "../app/useAct";
import type { Dropped } from "./useFileDrop";

export interface Importing {
  name: string;
  /** 0…1 of the bytes; the rest of the time the files are read. */
  share: number;
  words: string;
}

/** Sends files into a parcel, with progress, and lets it be taken in; what fails or is stopped leaves nothing behind. */
export function useImport() {
  const [importing, setImporting] = useState<Importing | null>(null);
  const end = useRef<AbortController | null>(null);
  const act = useAct();

  const send = async <T>(files: Dropped[], take: (parcel: number) => Promise<T>): Promise<T | undefined> => {
    const total = files.reduce((s, f) => s + f.file.size, 0);
    const name = files.length === 1 ? files[0]!.file.name : `${files.length} files`;
    const stop = new AbortController();
    end.current = stop;
    let before = 0;
    const tell = (bytes: number) =>
      setImporting({ name, share: total > 0 ? bytes / total : 1, words: `${size(bytes)} of ${size(total)}` });
    tell(0);
    let parcel: number | undefined;
    const done = await act(async () => {
      parcel = await ask<number>("POST", "/api/parcels");
      for (const f of files) {
        const path = `/api/parcels/${parcel}/files?name=${encodeURIComponent(f.path)}`;
        await upload(path, f.file, (bytes) => tell(before + bytes), stop.signal);
        before += f.file.size;
      }
      setImporting({ name, share: 1, words: "reading it" });
      return take(parcel);
    });
    if (done === undefined && parcel !== undefined)
      void ask("DELETE", `/api/parcels/${parcel}`).catch(() => {});
    setImporting(null);
    return done;
  };

  return {
    importing,
    stop: () => end.current?.abort(),
    send,
    /** Scenes and environments for the library. */
    /** A shot that was exported; its number. */
    takeShot: (file: Dropped) =>
      send([file], (id) =>
        ask<number>("POST", `/api/parcels/${id}/shot?name=${encodeURIComponent(file.path)}`),
      ),
    take: (files: Dropped[]) => send(files, (id) => ask<Parcel>("POST", `/api/parcels/${id}/take`)),
  };
}
