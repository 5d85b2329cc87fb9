declare module '@secvisogram/csaf-validator-lib/mandatoryTests.js' {
  interface TestResult {
    readonly isValid?: boolean;
    readonly errors?: readonly { readonly instancePath: string; readonly message?: string }[];
  }
  const tests: Readonly<Record<string, (document: unknown) => TestResult | Promise<TestResult>>>;
  export = tests;
}
