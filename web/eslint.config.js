import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import a11y from "eslint-plugin-jsx-a11y-x";
import ts from "typescript-eslint";

export default ts.config({ ignores: ["dist", "src/shared/schema.ts"] }, js.configs.recommended, ...ts.configs.strict, {
  files: ["src/**/*.{ts,tsx}"],
  plugins: { "react-hooks": hooks, "jsx-a11y-x": a11y },
  rules: {
    ...hooks.configs.recommended.rules,
    ...a11y.configs.strict.rules,
    // a bench is worked by keys: where a field is all there is to do, it has the focus
    "jsx-a11y-x/no-autofocus": "off",
    "@typescript-eslint/no-explicit-any": "error",
    "react-hooks/set-state-in-effect": "off",
  },
});
