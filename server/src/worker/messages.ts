import type { Problem } from '@oak-gauge/contract'
import type { Evidence } from '@oak-gauge/core/operations/operation.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'
import type { Arrays } from './pack.ts'

/** Between a worker's main thread, which speaks with the database, and its runner thread, which computes. */
export interface RunRequest {
  id: number
  operation: string
  params: Record<string, unknown>
  inputs: Record<string, Item[]>
  /** for bringing in: the file in the database */
  file: { id: string; name: string } | null
  /** display subset of the input items, by port: a field is gathered for it */
  shown: Record<string, (Uint32Array | null)[]>
  /** set to 1 to cancel */
  cancel: Int32Array
  /** for a preview: also tell which shown points of each replaced item go */
  preview: boolean
  /** make a picture of the outputs */
  picture: boolean
}

export interface MadeItem {
  port: string
  place: number
  item: Item
  display: Arrays
}

export type FromRunner =
  | { id: number; kind: 'progress'; done: number; phase: string }
  | { id: number; kind: 'done'; made: MadeItem[]; evidence: Evidence; picture: string | null; milliseconds: number }
  | { id: number; kind: 'failed'; problem: Problem; stack: string | null }
