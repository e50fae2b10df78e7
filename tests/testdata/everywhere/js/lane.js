export const name = "lane"; import { other } from "./circle.js"; export const both = () => name + other();
