import type { ProofView } from "../api/types";

/** The proof, if it has ended and was rendered here: only such a one has ledgers. */
export const endedTest = (proof: ProofView | undefined): ProofView | undefined =>
  proof && proof.kind !== "picture" && proof.state !== "running" ? proof : undefined;

/** Why there is no ledger yet. */
export function whyNone(proof: ProofView | undefined, what: string): string {
  if (proof?.state === "running") return `When the test has ended, this says ${what}.`;
  if (proof?.kind === "picture") return "A picture from elsewhere has no ledgers.";
  if (proof) return "reading the ledgers …";
  return `Test the frame or a region: then this says ${what}.`;
}
