import prettier from 'eslint-config-prettier'
import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['src/api/schema.d.ts', 'dist'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  prettier, // what Prettier lays out is its affair
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: ts.parser } } },
  {
    rules: {
      '@typescript-eslint/no-explicit-any': 'error',
      'vue/multi-word-component-names': 'off',
      'vue/max-len': ['error', { code: 120, template: 120, ignoreUrls: false }],
    },
  },
)
