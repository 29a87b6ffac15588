/** How programs that draw without a graphics card name themselves. */
const SOFTWARE = /swiftshader|llvmpipe|softpipe|software|basic render/i;

/** Whether a graphics card draws: without one, smooth edges take a third of the time of a picture. */
export function hasCard() {
  const gl = document.createElement('canvas').getContext('webgl2');
  const told = gl?.getExtension('WEBGL_debug_renderer_info');
  const name = gl && told ? String(gl.getParameter(told.UNMASKED_RENDERER_WEBGL)) : '';
  gl?.getExtension('WEBGL_lose_context')?.loseContext();
  return !SOFTWARE.test(name);
}
