import js from '@eslint/js'
import { defineConfig } from 'eslint/config'
import prettier from 'eslint-config-prettier'
import tseslint from 'typescript-eslint'

export default defineConfig(
  { ignores: ['**/node_modules', '.tsc', '.build', '.data', '**/dist', '**/*.js', '**/*.mjs'] },
  js.configs.recommended,
  tseslint.configs.recommendedTypeChecked,
  {
    languageOptions: {
      parserOptions: { projectService: { allowDefaultProject: ['web/vite.config.ts', 'e2e/playwright.config.ts'] }, tsconfigRootDir: import.meta.dirname },
    },
  },
  {
    rules: {
      // a zero is a fine number in a sentence
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true, allowBoolean: true }],
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      // NaN is how typed arrays say "nothing here": x !== x is the fast test for it
      'no-self-compare': 'off',
    },
  },
  // numeric code: what a typed array gives is a number
  {
    files: ['**/*.test.ts', '**/*.test.tsx'],
    rules: {
      '@typescript-eslint/no-unsafe-assignment': 'off',
      '@typescript-eslint/no-unsafe-member-access': 'off',
      '@typescript-eslint/unbound-method': 'off',
    },
  },
  prettier,
)
