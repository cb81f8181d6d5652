import { useState, type DragEvent } from "react";

/** A dropped file with its path inside what was dropped. */
export interface Dropped {
  file: File;
  path: string;
}

async function entries(directory: FileSystemDirectoryEntry): Promise<FileSystemEntry[]> {
  const reader = directory.createReader();
  const all: FileSystemEntry[] = [];
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail));
    if (some.length === 0) return all;
    all.push(...some);
  }
}

async function walk(entry: FileSystemEntry, folder: string, into: Dropped[]): Promise<void> {
  if (entry.isFile) {
    const file = await new Promise<File>((done, fail) => (entry as FileSystemFileEntry).file(done, fail));
    into.push({ file, path: folder + entry.name });
  } else {
    for (const e of await entries(entry as FileSystemDirectoryEntry))
      await walk(e, `${folder}${entry.name}/`, into);
  }
}

/** All files of a drop, folders walked. */
async function dropped(e: DragEvent): Promise<Dropped[]> {
  // The list of items is gone after the first pause.
  const roots = [...e.dataTransfer.items].map((i) => i.webkitGetAsEntry()).filter((x) => x !== null);
  const files = [...e.dataTransfer.files];
  const into: Dropped[] = [];
  for (const root of roots) await walk(root, "", into);
  return into.length > 0 ? into : files.map((file) => ({ file, path: file.name }));
}

/** Takes files that are dropped anywhere on an element. */
export function useFileDrop(take: (files: Dropped[]) => void) {
  const [over, setOver] = useState(false);
  const handlers = {
    onDragOver: (e: DragEvent) => {
      if (![...e.dataTransfer.types].includes("Files")) return;
      e.preventDefault();
      setOver(true);
    },
    onDragLeave: (e: DragEvent) => {
      if (!(e.relatedTarget instanceof Node && e.currentTarget.contains(e.relatedTarget))) setOver(false);
    },
    onDrop: (e: DragEvent) => {
      e.preventDefault();
      setOver(false);
      void dropped(e).then((files) => files.length > 0 && take(files));
    },
  };
  return { over, handlers };
}
