/** @jest-environment ./web/test/browser-env.mjs */
import { describe, expect, test } from '@jest/globals'
import { render } from '@testing-library/react'
import { keysOf, sentences } from '../../tools/words.mjs'
import { EN } from '../src/words/en.ts'
import { t } from '../src/words/t.ts'
import { Words } from '../src/words/Words.tsx'

const places = (s: string) => [...new Set(s.match(/\{\{\w+\}\}|<\/?\w+\/?>/g))].sort()

describe('the catalogue of words', () => {
  test('holds every sentence of the page and no other: node tools/words.mjs brings it up to date', () => {
    const { found, wrong } = sentences()
    // a sentence that is put together while the page runs is in no catalogue
    expect(wrong).toEqual([])
    expect(found.size).toBeGreaterThan(800)
    expect(Object.keys(EN).sort()).toEqual([...keysOf(found)].sort())
  })
  test('fills in what its sentences name, whatever their words', () => {
    for (const [key, words] of Object.entries(EN)) {
      const of = key.endsWith('_one') ? key.replace('{{count}}', words.includes('{{count}}') ? '{{count}}' : '') : key
      expect([key, places(words)]).toEqual([key, places(of)])
    }
    expect(t('Go to {{stage}}', { stage: 'Merge' })).toBe('Go to Merge')
    // a name is a name, whatever it looks like
    expect(t('More about {{title}}', { title: '$t(Delete) {{title}} <b> & ’' })).toBe('More about $t(Delete) {{title}} <b> & ’')
  })
  test('knows one and many', () => {
    expect([0, 1, 2].map((count) => t('Merge {{count}} passes', { count }))).toEqual(['Merge 0 passes', 'Merge 1 pass', 'Merge 2 passes'])
  })
  test('puts elements into sentences, and data with signs of markup stays data', () => {
    const { container } = render(
      <Words of="Tolerance <figure>{{tolerance}}</figure> mm" values={{ tolerance: '<figure>&lt; 0.2' }} parts={{ figure: <b /> }} />,
    )
    expect(container.innerHTML).toBe('Tolerance <b>&lt;figure&gt;&amp;lt; 0.2</b> mm')
  })
})
