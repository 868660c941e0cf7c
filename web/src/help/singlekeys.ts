/** Keys that do something when pressed alone can be switched off: for whoever speaks to the computer, or touches keys by accident (WCAG 2.1.4). */
const NAME = 'oak.single-keys'

export const singleKeys = (): boolean => localStorage.getItem(NAME) !== 'off'
export const setSingleKeys = (on: boolean): void => localStorage.setItem(NAME, on ? 'on' : 'off')
