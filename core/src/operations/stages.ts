/** Stages of the work, in order. */
export const STAGES = ['Brief', 'Ready', 'Mark', 'Capture', 'Clean', 'Align', 'Merge', 'Datum', 'Inspect', 'Deliver'] as const
export type Stage = (typeof STAGES)[number]
