import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'
import type { Problem } from '@oak-gauge/contract'
import type { ItemRow } from '../db/models.ts'

/** What of a stored item a file is written from. */
export type StoredItem = Pick<ItemRow, 'name' | 'kind' | 'arrays' | 'meta' | 'pose'>
export const storedItem = ({ name, kind, arrays, meta, pose }: ItemRow): StoredItem => ({ name, kind, arrays, meta, pose })

export type HelperTask =
  /** on: the part that a table of values belongs to */
  { task: 'write'; item: StoredItem; on: StoredItem | null; format: string; path: string } | { task: 'decode'; bytes: Uint8Array; name: string }

export interface HelperResult {
  write: { ending: string; bytes: number }
  decode: GreyImage
}
export type HelperAnswer = { id: number; result: unknown } | { id: number; problem: Problem; stack: string | null }
