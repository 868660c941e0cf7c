import { proposeRecording, type OfferedScanner, type RecordingBrief, type RecordingProposal } from '@oak-gauge/core/capture/propose.ts'
import { tiled, upright, type Up } from '@oak-gauge/core/markers/plan/shape.ts'
import { makeMesh } from '@oak-gauge/core/shape/mesh.ts'
import { makePoints } from '@oak-gauge/core/shape/points.ts'

export interface ToProposer {
  arrays: Record<string, Float32Array | Uint32Array | Uint8Array>
  pose: number[]
  up: Up
  scanners: OfferedScanner[]
  brief: RecordingBrief
}
export interface FromProposer {
  /** null: nothing can be said of this part */
  proposal: RecordingProposal | null
}

/** In its own thread: all triangles of a part are looked at. */
self.onmessage = ({ data: m }: MessageEvent<ToProposer>) => {
  let proposal: RecordingProposal | null = null
  try {
    const { vertices, triangles, xyz, normals } = m.arrays as Record<string, Float32Array | undefined> & { triangles?: Uint32Array }
    const shape = vertices && triangles ? makeMesh({ vertices, triangles }) : xyz ? tiled(makePoints({ xyz, normals })) : null
    proposal = shape && proposeRecording(upright(shape, m.pose, m.up), m.scanners, m.brief)
  } catch {
    // an empty part: what it lacks is said where it is rehearsed
  }
  self.postMessage({ proposal } satisfies FromProposer)
}
