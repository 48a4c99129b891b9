/** What the library calls; all places are addresses in the memory. */

export { closeColumn, lastRow, putBytes } from "./columns";
export { allocate, heapEnd, releaseFrom } from "./memory";
export {
  dataOf,
  describe,
  endOf,
  endsOf,
  leadTo,
  newColumn,
  newList,
  newNode,
  newTable,
  recordOf,
  rowsOf,
  setDecimal,
  setEntry,
  setItem,
  setRoot,
  tokenOf,
  validityOf,
} from "./plan";
export { beginPage, dropRecord, dropTaken, pageRoom, settle, takeRecords, usePlan } from "./scan";
export { nameOf, newField, newPlace, setItems, setRank, textBefore } from "./state-plan";
export { textsAt } from "./state-text";
export { putAs, putFloat64 } from "./values";
