import { useSyncExternalStore } from 'react'
import type { Problem } from '@oak-gauge/contract'
import { API, addressOf } from '@oak-gauge/contract'

export interface Upload {
  key: number
  job: string
  name: string
  bytes: number
  /** 0..1 */
  sent: number
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
  detail: 'The file did not get through to the server.',
  where: '',
  remedy: 'Nothing of it was kept. Drop it again.',
}

/** One after the other, so that the first is there soonest. */
export function upload(job: string, files: File[], to: Destination): void {
  let last: Promise<void> = Promise.resolve()
  for (const file of files) {
    const request = new XMLHttpRequest()
    const mine = ++key
    change([
      ...uploads,
      {
        key: mine,
        job,
        name: file.name,
        bytes: file.size,
        sent: 0,
        problem: null,
        stop: () => {
          request.abort()
          dismissUpload(mine)
        },
      },
    ])
    last = last.then(() => send(request, mine, job, file, to))
  }
}

function send(request: XMLHttpRequest, mine: number, job: string, file: File, to: Destination): Promise<void> {
  return new Promise((done) => {
    if (!uploads.some((u) => u.key === mine)) return done()
    const query = {
      name: file.name,
      ...(to.role ? { role: to.role } : {}),
      ...(to.setup ? { setup: to.setup } : {}),
    }
    request.open('PUT', addressOf(API.bringFile, { id: job }, query))
    request.upload.onprogress = (e) => update(mine, { sent: e.total ? e.loaded / e.total : 0 })
    request.onload = () => {
      if (request.status < 300) dismissUpload(mine)
      else {
        let problem = { ...BROKEN, where: file.name }
        try {
          problem = JSON.parse(request.responseText) as Problem
        } catch {
          // the answer was no page of ours; the usual words stand
        }
        update(mine, { problem })
      }
      done()
    }
    request.onerror = () => {
      update(mine, { problem: { ...BROKEN, where: file.name } })
      done()
    }
    request.onabort = () => done()
    request.send(file)
  })
}
