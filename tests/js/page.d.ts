// What the page has besides the browser's own, and what the checker cannot know: which kind of element a
// selector finds. Elements found are taken for what they are used as; everything else is checked.
interface Window {
  htmx: { process(element: Element): void };
  pondel: unknown;
}
interface ParentNode {
  querySelector(selectors: string): any;
  querySelectorAll(selectors: string): NodeListOf<any>;
}
interface Document {
  getElementById(id: string): any;
}
interface Element {
  closest(selectors: string): any;
}
