// What is looked for is chosen on purpose: mistakes that TypeScript does not see, hooks that are called wrongly, and
// pages that cannot be used without a mouse or eyes. How code looks is the formatter's business.
import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "public", "src/api/schema.gen.d.ts"] },
  js.configs.recommended,
  ts.configs.recommended,
  a11y.flatConfigs.recommended,
  {
    plugins: { "react-hooks": hooks },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
      // A region that scrolls must be reachable by keyboard.
      "jsx-a11y/no-noninteractive-tabindex": "off",
      // The focus moves into what a person has just opened by key or button, and back when it closes.
      "jsx-a11y/no-autofocus": "off",
    },
  },
);
