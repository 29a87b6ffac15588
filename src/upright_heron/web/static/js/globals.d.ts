/** htmx, as the page loads it: a script of its own, not a module. */
declare const htmx: {
  ajax(method: string, url: string, options: { target: string; values?: Record<string, unknown>; swap?: string; source?: string; quiet?: boolean; acts?: number }): Promise<void>;
};

/** What tests and pictures of the documentation reach the scripts by. */
interface Window {
  heron: unknown;
  heronLengths: unknown;
  heronShelf: unknown;
  heronMachine: unknown;
  heronUploads: unknown;
}
