import { onRequest } from "./requests";

// The client of the API takes these when it is first imported: requests of a page are relative,
// and nothing is asked of any machine.
globalThis.Request = class extends Request {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, "http://localhost") : input, init);
  }
};
globalThis.fetch = (input, init) => onRequest.answer(new Request(input, init));

// What lists of choices ask of a page, and the simulated one does not have.
if (typeof Element !== "undefined") {
  Element.prototype.hasPointerCapture = () => false;
  Element.prototype.scrollIntoView = () => undefined;
}
