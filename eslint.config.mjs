import tseslint from 'typescript-eslint'
import vue from 'eslint-plugin-vue'
import vueParser from 'vue-eslint-parser'

// The directions of the architecture: core <- engine <- server <- app, which takes only types from the server
// and only types and pure functions from core.
const rooms = (...names) => ({
  group: names.flatMap((name) => [`**/${name}/**`, `~~/${name}/**`, `~/../${name}/**`]),
  message: 'The architecture does not let this room use that one.',
})
const direction = (files, ...forbidden) => ({
  files,
  rules: { 'no-restricted-imports': ['error', { patterns: forbidden }] },
})
const outside = {
  group: ['node:*', 'pg', 'pg-*', 'kysely', 'vue', 'pinia', '@vueuse/*', 'h3', 'piscina'],
  message: 'Core is pure computation.',
}

const programs = { group: ['node:child_process'], message: 'Outside programs are started by engine/program.ts alone.' }

export default tseslint.config(
  { ignores: ['node_modules', '.nuxt', '.output', 'dist', '.demo', '.data', '.bench', 'core/content/assembly'] },
  ...tseslint.configs.recommended,
  ...vue.configs['flat/recommended'],
  {
    files: ['**/*.vue'],
    languageOptions: { parser: vueParser, parserOptions: { parser: tseslint.parser } },
    rules: {
      // Prettier lays the templates out; names of pages follow the addresses.
      'vue/multi-word-component-names': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-indent': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/require-default-prop': 'off',
      'vue/attributes-order': 'off',
    },
  },
  { rules: { '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }], 'no-undef': 'off' } },
  // What an API of anybody's objects is given has no type that could be known.
  { files: ['standins/**/*.ts'], rules: { '@typescript-eslint/no-explicit-any': 'off' } },
  direction(['core/**/*.ts'], rooms('engine', 'server', 'app', 'demo', 'standins'), outside),
  direction(['engine/**/*.ts'], rooms('server', 'app', 'demo', 'standins'), programs),
  direction(['engine/program.ts'], rooms('server', 'app', 'demo', 'standins')),
  direction(['server/**/*.ts'], rooms('app', 'demo', 'standins')),
  direction(['standins/**/*.ts'], rooms('engine', 'server', 'app', 'demo')),
  {
    files: ['app/**/*.{ts,vue}'],
    rules: {
      '@typescript-eslint/no-restricted-imports': [
        'error',
        { patterns: [rooms('engine'), { ...rooms('server'), allowTypeImports: true }] },
      ],
    },
  },
  {
    // No clock and no randomness in core: both are given to it.
    files: ['core/**/*.ts'],
    ignores: ['**/*.test.ts'],
    rules: {
      'no-restricted-properties': ['error', { object: 'Date', property: 'now' }, { object: 'Math', property: 'random' }],
      'no-restricted-syntax': [
        'error',
        { selector: 'NewExpression[callee.name="Date"][arguments.length=0]', message: 'The clock is given to core.' },
      ],
    },
  },
  { files: ['core/**/*.test.ts'], rules: { 'no-restricted-imports': 'off' } },
)
