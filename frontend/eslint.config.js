// What the page is held to beyond its types: mistakes, unused things, Vue's own rules. Layout is prettier's.
import js from "@eslint/js";
import prettier from "eslint-config-prettier";
import vue from "eslint-plugin-vue";
import globals from "globals";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/api/schema.d.ts", "src/api/declared.ts", "src/components.d.ts"] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...vue.configs["flat/recommended"],
  {
    files: ["**/*.vue", "**/*.ts"],
    languageOptions: { globals: globals.browser, parserOptions: { parser: ts.parser } },
  },
  { files: ["scripts/*.mjs"], languageOptions: { globals: globals.node } },
  {
    rules: {
      "@typescript-eslint/no-unused-vars": ["error", { argsIgnorePattern: "^_", varsIgnorePattern: "^_" }],
      // A non-null assertion says what the types of indexed access cannot.
      "@typescript-eslint/no-non-null-assertion": "off",
      // The compiler knows undefined names.
      "no-undef": "off",
      "vue/multi-word-component-names": "off",
      // Defaults of optional properties are undefined, which is what the types say.
      "vue/require-default-prop": "off",
      // Two-way values of nested objects are how the forms of a run work.
      "vue/no-mutating-props": "off",
      eqeqeq: "error",
      "no-console": "error",
    },
  },
  prettier,
);
