import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

const never = (group, message) => ({ "no-restricted-imports": ["error", { patterns: [{ group, message }] }] });

export default ts.config(
  { ignores: ["src/api/schema.d.ts"] },
  ...ts.configs.recommended,
  { plugins: { "react-hooks": hooks }, rules: { "react-hooks/rules-of-hooks": "error", "react-hooks/exhaustive-deps": "error" } },
  { files: ["src/features/**"], rules: never(["**/*-page", "**/app/*"], "No page imports another page: put what both use into a piece of its own.") },
  { files: ["src/ui/**", "src/viewer/**", "src/api/**"], rules: never(["**/features/*", "**/app/*"], "Building blocks know no feature.") },
);
