// The recommended rules for Vue and TypeScript.
import js from '@eslint/js'
import vue from 'eslint-plugin-vue'
import globals from 'globals'
import typescript from 'typescript-eslint'
import parser from 'vue-eslint-parser'

export default typescript.config(
  { ignores: ['dist', 'node_modules', 'src/api/schema.ts'] },
  js.configs.recommended,
  ...typescript.configs.recommended,
  ...vue.configs['flat/recommended'],
  {
    files: ['**/*.ts', '**/*.vue'],
    languageOptions: {
      globals: globals.browser,
      parser,
      parserOptions: { parser: typescript.parser, extraFileExtensions: ['.vue'] },
    },
    rules: {
      // The compiler knows names better.
      'no-undef': 'off',
      // Layout is what the files have, not a rule of its own.
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': ['error', { html: { void: 'always' } }],
    },
  },
)
