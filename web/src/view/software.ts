/** Without a graphics card every point costs two microseconds: then fewer are drawn, and edges are not smoothed. */
export function drawsInSoftware(): boolean {
  const gl = document.createElement('canvas').getContext('webgl2')
  if (!gl) return true
  const info = gl.getExtension('WEBGL_debug_renderer_info')
  const name = info ? String(gl.getParameter(info.UNMASKED_RENDERER_WEBGL)) : ''
  gl.getExtension('WEBGL_lose_context')?.loseContext()
  return /swiftshader|llvmpipe|software|basic render/i.test(name)
}
