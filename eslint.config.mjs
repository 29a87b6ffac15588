import js from '@eslint/js';
import globals from 'globals';

export default [
  { ignores: ['**/vendor/**', 'node_modules/**', 'docs/**'] },
  js.configs.recommended,
  {
    files: ['src/upright_heron/web/**/*.js'],
    languageOptions: { ecmaVersion: 2024, sourceType: 'module', globals: { ...globals.browser, htmx: 'readonly' } },
    rules: {
      eqeqeq: 'error',
      'no-shadow': 'error',
      'no-unused-vars': ['error', { argsIgnorePattern: '^_', ignoreRestSiblings: true }],
      'no-var': 'error',
      'prefer-const': 'error',
    },
  },
];
