import { decode } from 'fast-png'
import { OakError } from '../base/errors.ts'
import type { Camera } from '../calibrate/camera.ts'
import { rayTable } from '../scanner/plateimage.ts'

/**
 * Points of a range image: a PNG of one channel whose grey is the distance along the axis of the camera, in steps; 0: nothing was seen. x to the right, y down, z away,
 * as the camera sees. step: length of one step; points are in its unit. Throws OakError 'bad-frames' for another size than the camera's, or more channels than one.
 */
export function rangeImage(png: Uint8Array, camera: Camera, step: number, where: string): Float32Array {
  const bad = (message: string, remedy: string) => new OakError('bad-frames', message, { where, remedy })
  let image
  try {
    image = decode(png)
  } catch (e) {
    throw bad(`This PNG cannot be read (${e instanceof Error ? e.message : 'damaged'}).`, 'Write it again, or copy it again.')
  }
  const { width, height, channels, data } = image
  if (channels !== 1 || image.palette) throw bad('This PNG is a picture in colour; a range image has one channel.', 'Write distances as grey of 16 bits.')
  if (width !== camera.width || height !== camera.height)
    throw bad(
      `This range image has ${width} x ${height} px, its camera ${camera.width} x ${camera.height}.`,
      'Give the camera of these images in frames.json, or images of that camera.',
    )
  const rays = rayTable(camera)
  const xyz = new Float32Array(3 * data.length)
  let n = 0
  for (let i = 0; i < data.length; i++) {
    if (!data[i]) continue
    const z = data[i] * step
    xyz[n] = rays[2 * i] * z
    xyz[n + 1] = rays[2 * i + 1] * z
    xyz[n + 2] = z
    n += 3
  }
  return xyz.slice(0, n)
}
