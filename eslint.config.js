import js from '@eslint/js'
import { defineConfig } from 'eslint/config'
import prettier from 'eslint-config-prettier'
import a11y from 'eslint-plugin-jsx-a11y-x'
import reactHooks from 'eslint-plugin-react-hooks'
import tseslint from 'typescript-eslint'

export default defineConfig(
  { ignores: ['core/simd', '**/node_modules', '.tsc', 'scratch', '.build', '.data', '**/dist', '**/*.js', '**/*.mjs', '**/*.d.mts'] },
  js.configs.recommended,
  tseslint.configs.recommendedTypeChecked,
  {
    languageOptions: {
      parserOptions: { project: 'tsconfig.lint.json', tsconfigRootDir: import.meta.dirname },
    },
  },
  {
    rules: {
      // a zero is a fine number in a sentence
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true, allowBoolean: true }],
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      // NaN is how typed arrays say "nothing here": x !== x is the fast test for it
      'no-self-compare': 'off',
      // props are given as short methods; none of them uses this
      '@typescript-eslint/unbound-method': 'off',
    },
  },
  // the core runs anywhere: in a page, a worker, on a server
  {
    files: ['core/src/**'],
    rules: { 'no-restricted-globals': ['error', 'window', 'document', 'navigator', 'localStorage', 'fetch', 'process', 'Buffer', 'require', 'setImmediate'] },
  },
  // tests read answers and reference files whose shape they are there to check
  {
    files: ['**/test/**', 'e2e/tests/**'],
    rules: Object.fromEntries(
      ['no-explicit-any', 'no-unsafe-assignment', 'no-unsafe-member-access', 'no-unsafe-argument', 'no-unsafe-call', 'no-unsafe-return'].map((r) => [
        `@typescript-eslint/${r}`,
        'off',
      ]),
    ),
  },
  { files: ['web/**'], ...reactHooks.configs.flat.recommended },
  { files: ['web/src/**/*.tsx'], ...a11y.configs.recommended },
  {
    files: ['web/src/**/*.tsx'],
    rules: {
      // a dialog that was just asked for takes the keyboard: only those use it
      'jsx-a11y-x/no-autofocus': 'off',
      // what is known beforehand belongs into a style sheet; what was computed (a share, a colour of the data) may stand beside the element
      'no-restricted-syntax': [
        'error',
        { selector: "JSXAttribute[name.name='style'] Property > Literal.value", message: 'A fixed style belongs into the style sheet of its feature.' },
        { selector: "CallExpression[callee.property.name='toFixed']", message: 'Numbers are written by looks/quantity.ts.' },
        // units and signs stay; what has three letters is a word
        ...[
          'JSXText[value=/[A-Za-z]{3}/]',
          'JSXAttribute[name.name=/^(title|label|aria-label|placeholder|reason|question|about|okText|cancelText|alt)$/] > Literal[value=/[A-Za-z]{3}/]',
          'JSXElement > JSXExpressionContainer > ConditionalExpression > Literal[value=/[A-Za-z]{3}/]',
          'JSXElement > JSXExpressionContainer > TemplateLiteral > TemplateElement[value.raw=/[A-Za-z]{4}/]',
        ].map((selector) => ({ selector, message: "Words stand in the catalogue: t('…'), then node tools/words.mjs." })),
      ],
    },
  },
  // these effects follow things outside of React: the 3D view, fetched arrays, picks on it
  { files: ['web/**'], rules: { 'react-hooks/set-state-in-effect': 'off', 'react-hooks/preserve-manual-memoization': 'off' } },
  // what three.js holds in its uniforms has no type
  { files: ['web/src/view/*.ts'], rules: { '@typescript-eslint/no-unsafe-call': 'off', '@typescript-eslint/no-unsafe-member-access': 'off' } },
  prettier,
)
