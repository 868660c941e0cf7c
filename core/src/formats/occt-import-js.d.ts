declare module 'occt-import-js' {
  const init: () => Promise<unknown>
  export default init
}
