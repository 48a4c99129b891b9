/** The made-up credentials of the federation's other services. */
export const NEIGHBOURS_DEFAULTS = Object.freeze({
  membersClient: "hut-desk-app",
  sensorsKey: "k-sunrise-2150",
  storesUser: "cellar",
  storesPassword: "seven-keys-on-a-ring",
  noticesUser: "warden",
  noticesPassword: "first-light-at-five",
  figuresToken: "count-the-stars-twice",
  feedbackKey: "guest-book-4711",
  deliveriesUser: "cableway",
  deliveriesPassword: "up-and-down-we-go",
  crewKey: "roster-of-the-north",
});
