import { baseName, escapePath, mailStoreOn, parentPath, previewOf, unescapePath } from '@lithodex/core';
import { itemFlags, type Version } from '@lithodex/contract';
import { kinds, type KindName } from '@lithodex/kinds';
import { appendAudit } from '../../base/audit/trail';
import { endings, pathHash } from '../../records/catalog/ordinals';
import { livingPoints } from '../../records/catalog/points';
import { findPaths } from '../../records/catalog/find-paths';
import { notInsideOf, searchNames, withPointsOf } from '../../records/catalog/search';
import { itemAt, kindOf, treeRows, type ItemRow } from '../../records/catalog/tree';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { numberAt } from '../../base/http/cursor';
import { within } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { pointRefs } from '../../records/targets/refs';
import { askSecondPerson } from '../../acts/people/second-person';
import { leadsInside } from '../../records/recover/inside-path';
import { pathOf } from '../../records/recover/path-of';
import { openedStore, treeInside } from '../../acts/recover/tree-inside';
import { treeOfSnapshot } from '../../acts/recover/tree-of-snapshot';
import { pointFor, readablePoint } from '../../records/recover/point-access';

type RecoverHandlers = Pick<
  Handlers,
  'tree' | 'preview' | 'attachment' | 'compare' | 'holdPoint' | 'releasePoint' | 'versions' | 'search' | 'findPaths'
>;

/** Bytes of a file that are looked at for its preview. */
const mostShown = 1 << 20;

const documentMs = 30_000;
/** What may be a document whose text is wanted. */
const isDocument = (front: Buffer) => /^(%PDF-|PK\x03\x04)/.test(front.toString('latin1', 0, 8));

export function recoverHandlers(deps: Deps): RecoverHandlers {
  const { db, clock } = deps;
  return {
    async tree({ params, query, actor }) {
      const point = await readablePoint(db, params.id, actor);
      const path = pathOf(query.path);
      const inside = leadsInside(point, path);
      // what a disk holds is told by the disk: its volumes have names and kinds that no row has
      const isRead = inside && (point.names_inside === 0 || mailStoreOn(path));
      if (inside === 'to' || isRead) return treeInside(deps, point, path, query);
      if (point.onStorage) return treeOfSnapshot(point, path);
      const folder = path === '' ? undefined : await itemAt(db, point.series_no, parentPath(path), baseName(path), point.ordinal);
      if (path !== '' && (!folder || kindOf(folder) !== 'folder'))
        throw new ApiError('NOT_FOUND', undefined, 'The point holds no such folder.');
      const rows = await treeRows(
        db,
        point,
        await livingPoints(db, point.series_no),
        path,
        query.cursor ? unescapePath(query.cursor) : '',
        query.limit + 1,
      );
      const next = rows.length > query.limit ? rows[query.limit - 1]!.name : null;
      return {
        path: query.path,
        rows: next === null && inside ? [...rows, ...openedStore(path, rows)] : rows.slice(0, query.limit),
        next,
        notLookedAt: folder !== undefined && (folder.flags & itemFlags.unread) !== 0,
        inside: false,
      };
    },

    async preview({ params, query, actor }) {
      const point = await readablePoint(db, params.id, actor);
      const path = pathOf(query.path);
      const [ref] = await pointRefs(db, deps.secrets, [point.id]);
      if (!ref) throw new ApiError('POINT_GONE');
      const ofTenant = point.facts !== null && fromJson<{ kind: string }>(point.facts).kind === 'tenant';
      // who brings things back for others reads what they ask for, and no files of machines
      if (actor.role === 'clerk' && !ofTenant) throw new ApiError('NOT_ALLOWED');
      const detail = JSON.stringify({ path: query.path });
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'item.preview', object: `point ${point.id}`, detail }),
      );
      const view = ofTenant || mailStoreOn(path) ? await deps.movers.ask({ ask: 'itemView', point: ref, path }, documentMs) : null;
      if (view) return view;
      // a file of a drive is not shown to a clerk beyond its name
      if (actor.role === 'clerk')
        throw new ApiError('NOT_ALLOWED', undefined, 'Files are not shown here, only mail, appointments and contacts.');
      const { data, size } = await deps.movers.ask({ ask: 'front', point: ref, path, most: mostShown });
      const bytes = Buffer.from(data, 'base64');
      const about = { size, whole: bytes.length === size };
      const shown = previewOf(bytes, about.whole);
      if (shown.as === 'image') return { ...shown, ...about, data };
      const document = isDocument(bytes) ? await deps.movers.ask({ ask: 'documentText', point: ref, path }, documentMs) : null;
      if (document && document.text !== null) return { as: 'text', text: document.text, of: document.of, size, whole: false };
      if (shown.as === 'text') return { ...shown, ...about, of: '', whole: about.whole && shown.text.length < mostShown };
      return { ...shown, ...about, why: document?.why ?? '', rows: [...shown.rows] };
    },

    async attachment({ params, query, actor }) {
      const point = await readablePoint(db, params.id, actor);
      const [ref] = await pointRefs(db, deps.secrets, [point.id]);
      if (!ref) throw new ApiError('POINT_GONE');
      const detail = JSON.stringify({ path: query.path, attachment: query.no });
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'item.attachment', object: `point ${point.id}`, detail }),
      );
      return deps.movers.ask({ ask: 'itemAttachment', point: ref, path: pathOf(query.path), no: query.no }, documentMs);
    },

    async compare({ params, query, actor }) {
      const point = await pointFor(db, params.id, actor);
      const path = pathOf(query.path);
      const [ref] = await pointRefs(db, deps.secrets, [point.id]);
      const { read_as: readAs, kind } = await db('workload as w')
        .join('source as s', 's.id', 'w.source_id')
        .where('w.id', point.workload_id)
        .first<{ read_as: string | null; kind: KindName }>('s.read_as', 'w.kind');
      const { compares, noun } = kinds[kind];
      if (!compares) throw new ApiError('NOT_NOW', undefined, `A ${noun} can not be compared with what is there now.`);
      const rows = await deps.movers.ask({ ask: 'compare', point: ref!, path, folder: query.folder === 'yes', readAs });
      return { rows: rows.map((r) => ({ ...r, name: escapePath(r.name) })), at: clock.now() };
    },

    async holdPoint({ params, body, actor }) {
      const point = await pointFor(db, params.id, actor);
      await inTransaction(db, async (trx) => {
        await trx('point').where({ id: point.id }).update({ held: true, held_why: body.reason });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'point.hold', object: `point ${point.id}`, detail: body.reason });
      });
      await deps.events.emit('point', { workloadId: point.workload_id });
      return {};
    },

    async releasePoint({ params, actor }) {
      const point = await pointFor(db, params.id, actor);
      if (!point.held && point.keep_own === null) throw new ApiError('NOT_NOW', undefined, 'The point is not held.');
      const name = (await db('workload').where({ id: point.workload_id }).first<{ name: string }>('name')).name;
      const effect = `The point of ${name} of ${new Date(point.moment).toISOString().slice(0, 16).replace('T', ' ')} UTC is let go: retention decides again, and may delete it.`;
      return { request: await askSecondPerson(deps, actor, `point ${point.id}`, effect, { kind: 'point.release', id: point.id }) };
    },

    async versions({ query, actor }) {
      within(actor, query.workload);
      found(await db('workload').where({ id: query.workload }).first<{ id: number } | undefined>());
      const path = pathOf(query.path);
      const series = await db('series').where({ workload_id: query.workload }).select<{ no: number }[]>('no');
      const all: Version[] = [];
      for (const { no } of series) {
        const points = await livingPoints(db, no);
        const rows = await db('item')
          .where({ series_no: no, parent: pathHash(parentPath(path)), name: Buffer.from(baseName(path), 'latin1') })
          .orderBy('from_ord')
          .select<ItemRow[]>();
        for (const row of rows) {
          const holding = points.filter((p) => p.ordinal >= row.from_ord && p.ordinal < row.to_ord);
          const first = holding[0];
          const last = holding.at(-1);
          if (!first || !last) continue;
          const open = last.id === points.at(-1)!.id;
          const ended = open ? 'still' : row.ended === endings.gone ? 'gone' : row.ended === endings.unseen ? 'unseen' : 'replaced';
          all.push({
            pointId: last.id,
            moment: first.moment,
            lastMoment: last.moment,
            points: holding.length,
            size: row.size,
            mtimeNs: String(row.mtime_ns),
            mode: row.mode,
            kind: kindOf(row),
            random: (row.flags & itemFlags.random) !== 0,
            unread: (row.flags & itemFlags.unread) !== 0,
            suspect: holding.every((p) => p.suspect === 1),
            ended,
          });
        }
      }
      return { rows: all.sort((a, b) => b.moment - a.moment) };
    },

    async findPaths({ body, actor }) {
      if (body.workload !== undefined) within(actor, body.workload);
      const rows = await findPaths(db, body.paths, body.workload !== undefined ? [body.workload] : actor.remit);
      if (!rows)
        throw new ApiError(
          'INVALID',
          [{ at: 'body.workload' }],
          'There are too many places to look at: choose a workload, or paste whole paths.',
        );
      return { rows };
    },

    async search({ query, actor }) {
      if (query.workload !== undefined) within(actor, query.workload);
      const mine = query.workload !== undefined ? [query.workload] : actor.remit;
      const only = query.policy === undefined ? mine : (await withPointsOf(db, query.policy)).filter((id) => mine?.includes(id) ?? true);
      const offset = numberAt(query.cursor, 0);
      const [{ rows, next }, notInside] = await Promise.all([
        searchNames(db, deps.names, query.q, only, offset, query.limit),
        offset ? null : notInsideOf(db, only),
      ]);
      return { rows, next: next === null ? null : String(next), total: null, notInside };
    },
  };
}
