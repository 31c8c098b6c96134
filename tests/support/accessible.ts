import axe from 'axe-core';
import { calm, type Visitor } from './browser';

/** What a theme can change: the other rules see the same in both. */
const ofColour = ['color-contrast', 'link-in-text-block'];

/** What stands against the guidelines (WCAG 2.2, A and AA) on the page as it is; against some of them, where they are named. */
async function violations(visitor: Visitor, rules?: string[]): Promise<string[]> {
  await visitor.settles();
  await visitor.page.evaluate(`window.axe ?? (() => { ${axe.source} })()`);
  return visitor.page.evaluate(async (named) => {
    const { axe } = window as unknown as { axe: typeof import('axe-core') };
    const tags = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'];
    const found = await axe.run(document, { runOnly: named ? { type: 'rule', values: named } : { type: 'tag', values: tags } });
    return found.violations.flatMap((v) => v.nodes.map((n) => `${v.id}: ${n.target.join(' ')} ${n.html.slice(0, 160)}`));
  }, rules);
}

/** What stands against them in either theme. */
export async function violationsInBothThemes(visitor: Visitor): Promise<string[]> {
  const found: string[] = [];
  for (const theme of ['light', 'dark']) {
    await visitor.page.emulateMediaFeatures([calm, { name: 'prefers-color-scheme', value: theme }]);
    found.push(...(await violations(visitor, theme === 'dark' ? ofColour : undefined)).map((v) => `${theme}: ${v}`));
  }
  return found;
}
