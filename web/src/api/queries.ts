import { useInfiniteQuery, useQuery, type InfiniteData, type QueryClient } from "@tanstack/react-query";
import { lookQuery, type Look } from "../bench/look";
import { ask, get } from "./client";
import type {
  AdviceView,
  BinEntry,
  Character,
  Check,
  CleanUpView,
  Comparison,
  EnvironmentView,
  FinalView,
  FinalsView,
  FitView,
  ForecastView,
  Knob,
  LedgerView,
  Legends,
  NewFinal,
  Paper,
  PartialView,
  Preview,
  PricesView,
  ProofView,
  ProofsView,
  Region,
  RegionView,
  RevisionView,
  Rung,
  SceneView,
  SettingsView,
  ShotView,
  TableView,
  Wanted,
} from "./types";

export const useKnobs = () =>
  useQuery({ queryKey: ["knobs"], queryFn: () => get<Knob[]>("/api/knobs"), staleTime: Infinity });

export const useShots = () => useQuery({ queryKey: ["shots"], queryFn: () => get<ShotView[]>("/api/shots") });

export const useShot = (id: number) =>
  useQuery({ queryKey: ["shot", id], queryFn: () => get<ShotView>(`/api/shots/${id}`) });

export const useRevisions = (id: number, wanted: boolean) =>
  useQuery({
    queryKey: ["revisions", id],
    queryFn: () => get<RevisionView[]>(`/api/shots/${id}/revisions`),
    enabled: wanted,
  });

/** Proofs of a shot, newest first, page by page. */
export const useProofs = (id: number) =>
  useInfiniteQuery({
    queryKey: ["proofs", id],
    queryFn: ({ pageParam }) =>
      get<ProofsView>(`/api/shots/${id}/proofs${pageParam === null ? "" : `?before=${pageParam}`}`),
    initialPageParam: null as number | null,
    getNextPageParam: (last, pages) =>
      pages.reduce((n, p) => n + p.list.length, 0) < last.all ? last.list.at(-1)?.id : undefined,
  });

/** Puts a proof in front of those that are known already. */
export function putProof(queries: QueryClient, proof: ProofView) {
  queries.setQueryData<InfiniteData<ProofsView>>(["proofs", proof.shot], (known) => {
    const [first, ...rest] = known?.pages ?? [];
    const list = [proof, ...(first?.list ?? []).filter((p) => p.id !== proof.id)];
    return {
      pageParams: known?.pageParams ?? [null],
      pages: [{ list, all: (first?.all ?? 0) + list.length - (first?.list.length ?? 0) }, ...rest],
    };
  });
}

export const useRegions = (id: number) =>
  useQuery({ queryKey: ["regions", id], queryFn: () => get<RegionView[]>(`/api/shots/${id}/regions`) });

export const usePartials = () =>
  useQuery({ queryKey: ["partials"], queryFn: () => get<PartialView[]>("/api/partials") });

export const useLadder = (shot: number, wanted: boolean) =>
  useQuery({
    queryKey: ["ladder", shot],
    queryFn: () => get<Rung[]>(`/api/shots/${shot}/ladder`),
    enabled: wanted,
  });

export const usePreview = (shot: number, preset: number | null, revision: number) =>
  useQuery({
    queryKey: ["preview", shot, preset, revision],
    queryFn: () => get<Preview>(`/api/shots/${shot}/presets/${preset}`),
    enabled: preset !== null,
  });

export const useSettings = () =>
  useQuery({ queryKey: ["settings"], queryFn: () => get<SettingsView>("/api/settings") });

export const usePapers = () =>
  useQuery({ queryKey: ["papers"], queryFn: () => get<Paper[]>("/api/papers"), staleTime: Infinity });

export const useForecast = (id: number) =>
  useQuery({
    queryKey: ["forecast", id],
    queryFn: () => get<ForecastView | null>(`/api/shots/${id}/forecast`),
  });

/** The fit of a shot; asked anew when its tuning changes. */
export const useFit = (id: number, revision: number, wanted: Wanted) =>
  useQuery({
    queryKey: ["fit", id, revision, JSON.stringify(wanted)],
    queryFn: () => ask<FitView | null>("POST", `/api/shots/${id}/fit`, wanted),
    placeholderData: (before) => before,
  });

/** What is looked at before a final starts. */
export const useFinalCheck = (id: number, revision: number, wanted: NewFinal) =>
  useQuery({
    queryKey: ["check", id, revision, JSON.stringify(wanted)],
    queryFn: () => ask<Check[]>("POST", `/api/shots/${id}/finals/check`, wanted),
    placeholderData: (before) => before,
    retry: false,
  });

/** The queue in its order, or what has ended, the latest first; page by page. */
export const useFinals = (ended: boolean) =>
  useInfiniteQuery({
    queryKey: ["finals", ended],
    queryFn: ({ pageParam }) => get<FinalsView>(`/api/finals?ended=${ended}&skip=${pageParam}&most=30`),
    initialPageParam: 0,
    getNextPageParam: (last, pages) => {
      const there = pages.reduce((n, p) => n + p.list.length, 0);
      return there < (ended ? last.ended : last.open) ? there : undefined;
    },
  });

/** One final with all of its report; `state` makes the question new when it has got on. */
export const useFinal = (id: number, state: string) =>
  useQuery({
    queryKey: ["finals", "one", id, state],
    queryFn: () => get<FinalView>(`/api/finals/${id}`),
    placeholderData: (before) => (before?.id === id ? before : undefined),
  });

export const useBin = () => useQuery({ queryKey: ["bin"], queryFn: () => get<BinEntry[]>("/api/bin") });

export const useTables = () =>
  useQuery({ queryKey: ["tables"], queryFn: () => get<TableView[]>("/api/tables") });

export const useScenes = () =>
  useQuery({ queryKey: ["scenes"], queryFn: () => get<SceneView[]>("/api/scenes") });

export const useEnvironments = () =>
  useQuery({ queryKey: ["environments"], queryFn: () => get<EnvironmentView[]>("/api/environments") });

/** A first. `state` makes the question new when one of them has ended. */
export const useComparison = (ids: number[], reference: number | null, looks: string, state: string) =>
  useQuery({
    queryKey: ["compare", ids.join(), reference, looks, state],
    queryFn: () =>
      get<Comparison>(
        `/api/compare?ids=${ids.join()}${reference === null ? "" : `&reference=${reference}`}&looks=${looks}`,
      ),
    enabled: ids.length > 1 || (ids.length === 1 && reference !== null && reference !== ids[0]),
    placeholderData: (before) => before,
  });

export const useLegends = (
  proof: number | null,
  threshold: number,
  part: string,
  version: number,
  wanted: boolean,
) =>
  useQuery({
    queryKey: ["legends", proof, threshold, part, version],
    queryFn: () =>
      get<Legends>(
        `/api/proofs/${proof}/legends?${new URLSearchParams({ threshold: String(threshold), part })}`,
      ),
    enabled: wanted && proof !== null,
    placeholderData: (before) => before,
  });

/** The ledgers of a proof that has ended; `samples` makes the question new when it has gone further. */
export const useLedger = (proof: number | null, samples: number, part: Region | null) =>
  useQuery({
    queryKey: ["ledger", proof, samples, part],
    queryFn: () =>
      get<LedgerView>(
        `/api/proofs/${proof}/ledger${part ? `?x=${part.x}&y=${part.y}&width=${part.width}&height=${part.height}` : ""}`,
      ),
    enabled: proof !== null,
    placeholderData: (before) => before,
    retry: false,
  });

export const useFilterCharacter = (filter: string, radius: number) =>
  useQuery({
    queryKey: ["filter", filter, radius],
    queryFn: () => get<Character>(`/api/filters/${filter}?radius=${radius}`),
    staleTime: Infinity,
    placeholderData: (before) => before,
    retry: false,
  });

/** What the clean-up of a look does to a proof that has ended. */
export const useCleanUp = (proof: number | null, samples: number, look: Look) =>
  useQuery({
    queryKey: ["clean-up", proof, samples, look],
    queryFn: () => get<CleanUpView>(`/api/proofs/${proof}/clean-up?${lookQuery(look)}`),
    enabled: proof !== null,
    placeholderData: (before) => before,
    retry: false,
  });

export const useAdvice = (proof: number | null, samples: number) =>
  useQuery({
    queryKey: ["advice", proof, samples],
    queryFn: () => get<AdviceView>(`/api/proofs/${proof}/advice`),
    enabled: proof !== null,
    placeholderData: (before) => before,
    retry: false,
  });

export const usePrices = (shot: number) =>
  useQuery({
    queryKey: ["prices", shot],
    queryFn: () => get<PricesView | null>(`/api/shots/${shot}/prices`),
    placeholderData: (before) => before,
  });
