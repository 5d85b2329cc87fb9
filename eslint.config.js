import js from '@eslint/js';
import svelte from 'eslint-plugin-svelte';
import ts from 'typescript-eslint';

/** Who may import whom, as in the design; the one table from which the rules below are made. */
const mayImport = {
  core: [],
  wire: [],
  families: ['core', 'wire'],
  service: ['core', 'wire', 'families'],
  client: ['core'],
  cli: ['core', 'families', 'client', 'standins', 'service'],
  console: ['core', 'client'],
  standins: ['core'],
  bench: ['core', 'wire', 'families', 'client', 'standins'],
};
const rooms = Object.keys(mayImport);

const importRules = rooms.map((room) => {
  const banned = rooms.filter((other) => other !== room && !mayImport[room].includes(other));
  return {
    files: [`packages/${room}/src/**/*.{ts,svelte}`],
    rules: {
      'no-restricted-imports': [
        'error',
        {
          patterns: [
            { group: ['@barrow/*/*'], message: "Nobody imports past a package's index." },
            ...(banned.length > 0
              ? [
                  {
                    group: banned.map((b) => `@barrow/${b}`),
                    message: `${room} may import ${mayImport[room].join(', ') || 'no other room'}.`,
                  },
                ]
              : []),
            { group: rooms.filter((r) => r !== room).map((r) => `**/${r}/src/**`), message: "Nobody imports past a package's index." },
            ...(room === 'core' ? [{ group: ['node:*'], message: 'The core computes; it has no node: import.' }] : []),
          ],
        },
      ],
      'no-restricted-syntax': [
        'error',
        // import() is no way round the table.
        ...banned.map((b) => ({ selector: `ImportExpression[source.value=/^@barrow\\/${b}/]`, message: `${room} may not import ${b}.` })),
        ...(room === 'core'
          ? [
              { selector: 'ImportExpression[source.value=/^node:/]', message: 'The core has no node: import.' },
              {
                selector: "MemberExpression[object.name='Date'][property.name='now']",
                message: 'The core reads no clock: time comes in as an argument.',
              },
              {
                selector: "NewExpression[callee.name='Date'][arguments.length=0]",
                message: 'The core reads no clock: time comes in as an argument.',
              },
              {
                selector: "MemberExpression[object.name='Math'][property.name='random']",
                message: 'The core has no randomness of its own.',
              },
              { selector: "Identifier[name='setTimeout']", message: 'The core waits for nothing.' },
              { selector: "MemberExpression[object.name='performance']", message: 'The core reads no clock.' },
            ]
          : []),
      ],
    },
  };
});

export default ts.config(
  { ignores: ['.mutants/', '**/dist/**', '**/node_modules/**', '.barrow-demo/**', 'docs/screenshots/**'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  { files: ['**/*.svelte', '**/*.svelte.ts'], languageOptions: { parserOptions: { parser: ts.parser } } },
  {
    rules: {
      '@typescript-eslint/no-explicit-any': 'error',
      '@typescript-eslint/consistent-type-imports': ['error', { fixStyle: 'separate-type-imports', disallowTypeAnnotations: false }],
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_' }],
      'no-undef': 'off',
      'svelte/no-navigation-without-resolve': 'off',
      'prefer-const': 'error',
      eqeqeq: ['error', 'always', { null: 'ignore' }],
    },
  },
  { files: ['**/*.svelte', '**/*.svelte.ts'], rules: { 'prefer-const': 'off', 'svelte/prefer-svelte-reactivity': 'off' } },
  { files: ['**/tests/**'], rules: { '@typescript-eslint/consistent-type-imports': 'off' } },
  ...importRules,
);
