import i18next from 'i18next'
import { initReactI18next } from 'react-i18next'
import { EN } from './en.ts'

/**
 * Every word that the page says by itself stands in one catalogue (en.ts), under the English sentence: code stays readable, and another language is another
 * such list. Numbers get in as text, made by quantity.ts. What operations, quantities and scanners are called comes with the answers of the server.
 */
void i18next.use(initReactI18next).init({
  lng: 'en',
  initAsync: false,
  resources: { en: { translation: EN } },
  keySeparator: false,
  nsSeparator: false,
  // React escapes
  interpolation: { escapeValue: false },
  showSupportNotice: false,
})

/** A sentence of the catalogue, with {{what varies}} filled in; with a `count` in its singular or plural. */
export const t = i18next.t
