/** Below which path the service stands, such as `/sortitor`; empty at the root of a host. */
export const BASE =
  document.querySelector<HTMLMetaElement>('meta[name="base"]')?.content.replace('__BASE__', '') ??
  ''

/** An address of the service, as a browser asks for it. */
export const at = (path: string) => `${BASE}${path}`
