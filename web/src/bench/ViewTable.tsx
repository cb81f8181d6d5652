import { Button, Select } from "antd";
import { useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { ask } from "../api/client";
import { useTables } from "../api/queries";
import type { TableView } from "../api/types";
import { useAct } from "../app/useAct";

/** Which of the loaded tables lies over the view, and the way to load another. */
export function ViewTable({
  value,
  on,
  set,
}: {
  value: number;
  on: boolean;
  set: (values: Record<string, number | string>) => void;
}) {
  const tables = useTables().data ?? [];
  const input = useRef<HTMLInputElement>(null);
  const act = useAct();
  const queries = useQueryClient();
  const choose = (id: number) => set({ "view.table": id, "view.transform": "table" });
  const load = async (file: File) => {
    const name = encodeURIComponent(file.name);
    const table = await act(() => ask<TableView>("POST", `/api/tables?name=${name}`, file));
    await queries.invalidateQueries({ queryKey: ["tables"] });
    if (table) choose(table.id);
  };
  return (
    <div className="view-table">
      <span>Table</span>
      <Select
        size="small"
        aria-label="View table"
        placeholder="none loaded"
        value={on && tables.some((t) => t.id === value) ? value : undefined}
        onChange={choose}
        options={tables.map((t) => ({ value: t.id, label: t.title }))}
        popupMatchSelectWidth={false}
      />
      <Button size="small" onClick={() => input.current?.click()}>
        Load .cube
      </Button>
      <input
        ref={input}
        type="file"
        accept=".cube"
        hidden
        aria-label="File of a view table"
        onChange={(e) => {
          const file = e.target.files?.[0];
          if (file) void load(file);
          e.target.value = "";
        }}
      />
    </div>
  );
}
