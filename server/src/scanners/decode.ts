import jpeg from 'jpeg-js'
import { PNG } from 'pngjs'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'

/** A PNG or JPEG image as grey values; colour is weighed as ITU-R BT.601 says. Throws 'bad-image'. */
export function decodeImage(bytes: Buffer, name: string): GreyImage {
  const png = bytes.length > 8 && bytes.readUInt32BE(0) === 0x89504e47
  const jpg = bytes.length > 3 && bytes[0] === 0xff && bytes[1] === 0xd8
  if (!png && !jpg)
    throw new OakError('bad-image', 'The file is neither a PNG nor a JPEG image.', {
      where: name,
      remedy: 'Save the camera images as PNG: JPEG loses a little.',
    })
  try {
    const { width, height, data } = png ? PNG.sync.read(bytes) : jpeg.decode(bytes, { useTArray: true, maxMemoryUsageInMB: 512 })
    const grey = new Uint8Array(width * height)
    for (let i = 0; i < grey.length; i++) grey[i] = Math.round(0.299 * data[4 * i] + 0.587 * data[4 * i + 1] + 0.114 * data[4 * i + 2])
    return { width, height, data: grey }
  } catch (e) {
    throw new OakError('bad-image', 'The image is damaged.', { where: name, remedy: 'Copy it from the camera again.', cause: e })
  }
}
