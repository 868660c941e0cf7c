import type { FromPacker, ToPacker } from './packworker.ts'

/** Files of a folder with their place in it; a folder that was dropped is looked through. */
export async function filesOf(list: DataTransferItemList | FileList): Promise<ToPacker[]> {
  if (list instanceof FileList) return [...list].map((file) => ({ name: file.webkitRelativePath || file.name, file }))
  const entries = [...list].flatMap((i) => i.webkitGetAsEntry() ?? [])
  return (await Promise.all(entries.map(within))).flat()
}

async function within(entry: FileSystemEntry): Promise<ToPacker[]> {
  if (entry.isFile) {
    const file = await new Promise<File>((done, fail) => (entry as FileSystemFileEntry).file(done, fail))
    return [{ name: entry.fullPath.slice(1), file }]
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader()
  const out: ToPacker[] = []
  // a browser gives a hundred at a time
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail))
    if (!some.length) return out
    out.push(...(await Promise.all(some.map(within))).flat())
  }
}

/** What the files are called together: by their folder, or by the first of them. */
export function nameOf(files: ToPacker[]): string {
  const [first] = files
  const slash = first.name.indexOf('/')
  return slash > 0 ? first.name.slice(0, slash) : first.name.replace(/\.[^.]*$/, '')
}

/** One archive of many files. Throws an Error that says what could not be read. */
export function pack(files: ToPacker[], tell: (share: number) => void): { done: Promise<File>; stop(): void } {
  const worker = new Worker(new URL('./packworker.ts', import.meta.url), { type: 'module' })
  const done = new Promise<File>((resolve, reject) => {
    worker.onmessage = ({ data: m }: MessageEvent<FromPacker>) => {
      if ('share' in m) return tell(m.share)
      worker.terminate()
      if ('problem' in m) return reject(new Error(`${m.where}: ${m.problem}`))
      resolve(new File([m.archive], `${nameOf(files)}.zip`, { lastModified: Math.max(...files.map((f) => f.file.lastModified)) }))
    }
    worker.onerror = (e) => reject(new Error(e.message))
    worker.postMessage(files)
  })
  return { done, stop: () => worker.terminate() }
}
