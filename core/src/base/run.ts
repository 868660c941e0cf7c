import type { CadKernel } from './cad.ts'
import { Cancelled } from './errors.ts'

/**
 * What a long computation may ask of its host: report progress, learn of cancelling, spread work over threads.
 * The core never starts a thread itself; Node hosts, web workers and tests bring their own `Parallel`.
 */
export interface RunContext {
  /** done: 0..1; phase: a few words for the person who waits. */
  progress(done: number, phase?: string): void
  readonly signal: { readonly aborted: boolean }
  readonly parallel: Parallel
  /** for those who read CAD files */
  readonly cad?: CadKernel
}

/** Work on [start, end) of some range. Must depend on its arguments alone: it may run in any thread. */
export type KernelFunction<A, R> = (args: A, start: number, end: number) => R
export interface Kernel<A, R> {
  readonly name: string
  readonly run: KernelFunction<A, R>
}

export interface Parallel {
  readonly threads: number
  /**
   * Runs the kernel over [0, count) in chunks, and gives the chunks' results **in order** whatever thread
   * made them, so that sums come out the same to the last bit on any number of threads.
   * `chunk` must not depend on the thread count for the same reason.
   */
  map<A, R>(kernel: Kernel<A, R>, args: A, count: number, chunk: number, ctx: RunContext, onDone?: (done: number) => void): Promise<R[]>
}

const kernels = new Map<string, KernelFunction<never, unknown>>()

/** Registers a kernel under a name by which a worker thread finds it again. */
export function defineKernel<A, R>(name: string, run: KernelFunction<A, R>): Kernel<A, R> {
  kernels.set(name, run)
  return { name, run }
}

/** For thread hosts. Throws when the thread's bundle does not hold the kernel. */
export function runKernel(name: string, args: unknown, start: number, end: number): unknown {
  const run = kernels.get(name)
  if (!run) throw new Error(`kernel ${name} is not loaded in this thread`)
  return run(args as never, start, end)
}

export function checkCancelled(ctx: RunContext): void {
  if (ctx.signal.aborted) throw new Cancelled()
}

/** Everything on the calling thread. */
export const oneThread: Parallel = {
  threads: 1,
  map(kernel, args, count, chunk, ctx, onDone) {
    const out = []
    for (let s = 0; s < count; s += chunk) {
      checkCancelled(ctx)
      const e = Math.min(count, s + chunk)
      out.push(kernel.run(args, s, e))
      onDone?.(e / count)
    }
    return Promise.resolve(out)
  },
}

export const quietContext: RunContext = {
  progress: () => undefined,
  signal: { aborted: false },
  parallel: oneThread,
}

/** The part [from, to] of the parent's progress bar. */
export function subProgress(ctx: RunContext, from: number, to: number, phase?: string): RunContext {
  return { ...ctx, progress: (d, p) => ctx.progress(from + (to - from) * d, p ?? phase) }
}

/** Runs over a list with some of them under way at a time, so that threads need not wait while the next is made ready; results in order. */
export async function inFlight<T, R>(items: readonly T[], many: number, run: (item: T, i: number) => Promise<R>): Promise<R[]> {
  const out = new Array<R>(items.length)
  let next = 0
  const lane = async () => {
    while (next < items.length) {
      const i = next++
      try {
        out[i] = await run(items[i], i)
      } catch (e) {
        // nobody waits for the rest any more
        next = items.length
        throw e
      }
    }
  }
  await Promise.all(Array.from({ length: Math.min(many, items.length) }, lane))
  return out
}
