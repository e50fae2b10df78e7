import { name } from "./lane.js"; export const other = () => " of " + name;
