import type { Page } from 'playwright-core';

/** What there is once: a page may tell those of a list apart by it. */
const own = ['id', 'name', 'device', 'run', 'family', 'site', 'sha256', 'seq', 'index', 'code', 'standing', 'model', 'kind', 'holder'];
/** One that is looked at again is in its list again, by the same name. */
const isOnce = (one: unknown): boolean => one !== null && typeof one === 'object' && !('result' in one) && own.some((key) => key in one);

/** Every list of words, and of things that nothing keeps from being there twice, once more behind itself. */
function twice(told: unknown, within = ''): unknown {
  if (Array.isArray(told)) {
    const all = told.map((one) => twice(one, within));
    return told.some(isOnce) || lists.has(within) ? all : [...all, ...all];
  }
  if (told === null || typeof told !== 'object') return told;
  return Object.fromEntries(Object.entries(told).map(([key, value]) => [key, twice(value, key)]));
}
/** Lists of words of which the service makes each once. */
const lists = new Set(['sites', 'kinds', 'standings', 'probes', 'steps', 'passages', 'waves']);

/** From now on the service tells this page twice what it could. */
export async function tellTwice(page: Page): Promise<void> {
  await page.route('**/api/v1/**', async (route) => {
    if (route.request().method() !== 'GET' || route.request().url().includes('/events')) return route.continue();
    const response = await route.fetch();
    if (!(response.headers()['content-type'] ?? '').includes('application/json')) return route.fulfill({ response });
    await route.fulfill({ response, json: twice(await response.json()) });
  });
}
