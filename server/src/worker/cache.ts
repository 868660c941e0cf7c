import type pg from 'pg'
import { loadArray } from '../blobs.ts'
import type { ArrayRef } from '../db/models.ts'
import type { Arrays } from './pack.ts'

type AnyArray = Arrays[string]

/** Arrays lately used, up to a budget: steps of a job mostly work on what the step before made. */
export class ArrayCache {
  private readonly held = new Map<string, AnyArray>()
  private bytes = 0
  private readonly pool: pg.Pool
  private readonly budget: number
  constructor(pool: pg.Pool, budget = 2 ** 30) {
    this.pool = pool
    this.budget = budget
  }
  async load(refs: Record<string, ArrayRef>): Promise<Arrays> {
    const out: Arrays = {}
    for (const [name, ref] of Object.entries(refs)) {
      let a = this.held.get(ref.sha)
      if (a) {
        this.held.delete(ref.sha)
        this.held.set(ref.sha, a)
      } else {
        a = await loadArray(this.pool, ref)
        this.remember(ref, a)
      }
      out[name] = a
    }
    return out
  }
  remember(ref: ArrayRef, a: AnyArray): void {
    if (this.held.has(ref.sha)) return
    this.held.set(ref.sha, a)
    this.bytes += a.byteLength
    for (const [sha, old] of this.held) {
      if (this.bytes <= this.budget) break
      this.held.delete(sha)
      this.bytes -= old.byteLength
    }
  }
}
