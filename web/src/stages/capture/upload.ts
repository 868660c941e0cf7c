import { useSyncExternalStore } from 'react'
import { Upload as TusUpload, type DetailedError } from 'tus-js-client'
import { API, addressOf, type OpenUpload, type Problem } from '@oak-gauge/contract'
import { api } from '../../api.ts'
import { bytes as shown } from '../../looks/quantity.ts'
import { store } from '../../store.ts'
import { t } from '../../words/t.ts'
import { nameOf, pack } from './framefiles.ts'
import type { ToPacker } from './packworker.ts'

export interface Upload {
  key: number
  job: string
  name: string
  bytes: number
  /** 0..1 */
  sent: number
  /** of many files, while they become one: 0..1 */
  packed: number | null
  /** the server does not answer just now; it is tried again */
  waits: boolean
  /** of the server, once it knows of it */
  id: string | null
  problem: Problem | null
  stop(): void
}

/** Files on their way. They go on while the person looks at something else in the same window. */
let uploads: Upload[] = []
let key = 0
const heard = new Set<() => void>()
const change = (next: Upload[]) => {
  uploads = next
  for (const h of heard) h()
}
const update = (k: number, u: Partial<Upload>) => change(uploads.map((x) => (x.key === k ? { ...x, ...u } : x)))

export const useUploads = (job: string) =>
  useSyncExternalStore(
    (h) => {
      heard.add(h)
      return () => void heard.delete(h)
    },
    () => uploads,
  ).filter((u) => u.job === job)

export const dismissUpload = (k: number) => change(uploads.filter((u) => u.key !== k))

export interface Destination {
  role?: 'nominal' | 'mesh' | 'marker-map'
  setup?: string
}

const BROKEN: Problem = {
  code: 'no-answer',
  detail: t('The file did not get through to the server.'),
  where: '',
  remedy: t('What had come is kept for a day: choose the file again, and it goes on from there.'),
}
/** ms between tries while the server does not answer: about five minutes, long enough for it to be started again. Each byte that gets through begins anew. */
const AGAIN = [0, 500, 1000, 2000, 4000, 8000, 15_000, 30_000, 60_000, 60_000, 60_000, 60_000]
/** Answers that say “not now”. */
const NOT_NOW = [409, 423, 502, 503]

/** One after the other, so that the first is there soonest. One of which a part had come before goes on from there. */
export function upload(job: string, files: File[], to: Destination): void {
  const known = store
    .dispatch(api.endpoints.openUploads.initiate(job, { forceRefetch: true, subscribe: false }))
    .unwrap()
    .catch(() => [] as OpenUpload[])
  let last: Promise<unknown> = known
  for (const file of files) {
    const mine = ++key
    const stop = () => dismissUpload(mine)
    change([...uploads, { key: mine, job, name: file.name, bytes: file.size, sent: 0, packed: null, waits: false, id: null, problem: null, stop }])
    last = last.then(async () => {
      if (!uploads.some((u) => u.key === mine)) return
      await send(mine, job, file, to, begun(await known, file, to))
      for (const type of ['Job', 'Uploads'] as const) store.dispatch(api.util.invalidateTags([{ type, id: job }]))
    })
  }
}

/** bytes of files that may become one */
const MOST = 2 * 1024 ** 3

/** Frames of one recording: their files become one, which is sent as others are. */
export function uploadFrames(job: string, files: ToPacker[], to: Destination): void {
  const [first] = files
  if (files.length === 1 && /\.(zip|frames)$/i.test(first.name)) return upload(job, [first.file], to)
  const mine = ++key
  const bytes = files.reduce((s, f) => s + f.file.size, 0)
  const row = { key: mine, job, name: nameOf(files), bytes, sent: 0, packed: 0, waits: false, id: null, problem: null, stop: () => dismissUpload(mine) }
  if (bytes > MOST) {
    const problem = {
      code: 'too-large',
      detail: t('These frames have {{size}} together; up to 2 GB are taken.', { size: shown(bytes) }),
      where: row.name,
      remedy: t('Thin them, or bring them in as several recordings.'),
    }
    return change([...uploads, { ...row, problem }])
  }
  const packing = pack(files, (packed) => update(mine, { packed }))
  const stop = () => {
    packing.stop()
    dismissUpload(mine)
  }
  change([...uploads, { ...row, stop }])
  packing.done.then(
    (file) => {
      dismissUpload(mine)
      upload(job, [file], to)
    },
    (e: Error) =>
      update(mine, { problem: { code: 'unreadable', detail: t('A file cannot be read.'), where: e.message, remedy: t('Choose the files again.') } }),
  )
}

/** What had come of the same file, for the same place, before. */
const begun = (known: OpenUpload[], file: File, to: Destination): OpenUpload | undefined =>
  known.find(
    (k) =>
      k.name === file.name &&
      k.size === file.size &&
      k.modified === file.lastModified &&
      k.role === (to.role ?? null) &&
      k.setup === (to.setup ?? null) &&
      !uploads.some((u) => u.id === k.id),
  )

function send(mine: number, job: string, file: File, to: Destination, before: OpenUpload | undefined): Promise<void> {
  return new Promise((done) => {
    const tus = new TusUpload(file, {
      endpoint: addressOf(API.beginUpload, {}),
      ...(before ? { uploadUrl: addressOf(API.continueUpload, { id: before.id }) } : {}),
      metadata: { job, name: file.name, modified: String(file.lastModified), ...to },
      // the server knows what has come, for every browser
      storeFingerprintForResuming: false,
      retryDelays: AGAIN,
      onShouldRetry: ({ originalResponse }) => {
        const status = originalResponse?.getStatus() ?? 0
        const again = status === 0 || NOT_NOW.includes(status)
        if (again) update(mine, { waits: true })
        return again
      },
      onUploadUrlAvailable: () => update(mine, { id: tus.url?.split('/').at(-1) ?? null }),
      onProgress: (sent, total) => update(mine, { sent: total ? sent / total : 0, waits: false }),
      onSuccess: () => {
        dismissUpload(mine)
        done()
      },
      onError: (e) => {
        update(mine, { waits: false, problem: said(e as DetailedError) ?? { ...BROKEN, where: file.name } })
        done()
      },
    })
    update(mine, {
      sent: before ? before.bytes / before.size : 0,
      id: before?.id ?? null,
      stop: () => {
        dismissUpload(mine)
        // what had come goes as well; when that does not get through it is forgotten after a day
        void tus
          .abort(true)
          .catch(() => undefined)
          .then(done)
      },
    })
    tus.start()
  })
}

/** The server's own words; undefined when the answer was no page of ours. */
function said({ originalResponse }: DetailedError): Problem | undefined {
  try {
    const problem = JSON.parse(originalResponse?.getBody() ?? '') as Problem
    return problem.detail ? problem : undefined
  } catch {
    return undefined
  }
}
