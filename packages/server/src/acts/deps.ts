import type { Base } from '../base/base';
import type { NameIndex } from '../records/catalog/name-index';
import type { EstateBook } from './estate/estate-book';
import type { Downloads } from './movers/downloads';
import type { MoverLine } from './movers/mover-line';
import type { NightBook } from './watch/earlier-nights';

/** What acts and places work with: made once, handed down. */
export interface Deps extends Base {
  readonly estate: EstateBook;
  readonly nights: NightBook;
  readonly names: NameIndex;
  readonly movers: MoverLine;
  readonly downloads: Downloads;
}
