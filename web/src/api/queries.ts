import { useQuery } from "@tanstack/react-query";
import { get } from "./client";
import type {
  Comparison,
  EnvironmentView,
  FinalView,
  ForecastView,
  Knob,
  Legends,
  ProofView,
  RevisionView,
  SceneView,
  ShotView,
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

export const useProofs = (id: number) =>
  useQuery({ queryKey: ["proofs", id], queryFn: () => get<ProofView[]>(`/api/shots/${id}/proofs`) });

export const useForecast = (id: number) =>
  useQuery({
    queryKey: ["forecast", id],
    queryFn: () => get<ForecastView | null>(`/api/shots/${id}/forecast`),
  });

export const useFinals = () =>
  useQuery({ queryKey: ["finals"], queryFn: () => get<FinalView[]>("/api/finals") });

export const useScenes = () =>
  useQuery({ queryKey: ["scenes"], queryFn: () => get<SceneView[]>("/api/scenes") });

export const useEnvironments = () =>
  useQuery({ queryKey: ["environments"], queryFn: () => get<EnvironmentView[]>("/api/environments") });

/** `state` makes the question new when one of the two has ended. */
export const useComparison = (a: number | null, b: number | null, state: string) =>
  useQuery({
    queryKey: ["compare", a, b, state],
    queryFn: () => get<Comparison>(`/api/compare?a=${a}&b=${b}`),
    enabled: a !== null && b !== null && a !== b,
  });

export const useLegends = (proof: number | null, threshold: number, version: number, wanted: boolean) =>
  useQuery({
    queryKey: ["legends", proof, threshold, version],
    queryFn: () => get<Legends>(`/api/proofs/${proof}/legends?threshold=${threshold}`),
    enabled: wanted && proof !== null,
    placeholderData: (before) => before,
  });
