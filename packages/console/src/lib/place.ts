/** Where the console is, for its pages: the router knows all of them, and they must not know it. */
interface Router {
  readonly route: { readonly params: Readonly<Record<string, string | undefined>> };
  readonly go: (path: string) => void;
}

let router: Router | null = null;

/** Once, by the router itself. */
export function placeBy(one: Router): void {
  router = one;
}

/** The parts of the address that a page has in its path. */
export const place = {
  get params(): Readonly<Record<string, string | undefined>> {
    return router?.route.params ?? {};
  },
};

/** Goes to another page. */
export const goTo = (path: string): void => router?.go(path);
