import { accessSync, constants, existsSync, readdirSync, statfsSync, statSync } from 'node:fs';
import path from 'node:path';
import { bytesOfText } from '@lithodex/core';
import type { From } from '@lithodex/kinds';
import type { ComparedItem, Question, TargetPlace, TargetTest } from '@lithodex/contract';
import {
  compareFolder,
  connectorOf,
  type Connector,
  compareItem,
  databaseQuestions,
  discover,
  findItem,
  lookAhead,
  lookInsideMachine,
  probe,
  testInside,
  treeNow,
  applicationQuestions,
  bucketQuestions,
  shareQuestions,
  tenantQuestions,
  treeOf,
  type Comparison,
  type HostLimits,
  cloudClient,
  platformClient,
  removeMade,
} from '@lithodex/connectors';
import {
  checkBucket,
  checkCartridges,
  keepSettings,
  keptSettings,
  makeEnvelope,
  type BucketPlace,
  type CartridgePlace,
  type TreeEntry,
} from '@lithodex/engine';
import { attachedBy } from './attach';
import { cartridgesNeeded, cartridgesOf } from './cartridges';
import { frontOf, mailStores, openedFolder, openedItems, walked } from './look-inside-item';
import { openPoint } from './open-point';
import { keepReader } from './keep-reader';
import { documentText } from './document-text';
import { inventoryOf, shareTestOf, takeSnapshots, testOf } from './platforms';
import type { Stores } from './stores';
import { roomOf } from './target-room';

/** Answers what the server asks on behalf of a person who waits. */
export async function answerQuestion(question: Question, stores: Stores, limits: HostLimits): Promise<unknown> {
  switch (question.ask) {
    case 'probe':
      return probe(question.folder, question.readAs, limits);
    case 'discover':
      return discover(question.folder, question.path, question.readAs, limits).map((r) => ({ ...r, mtimeNs: String(r.mtimeNs) }));
    case 'read':
      throw new Error('sources are read in threads of their own');
    case 'rebuild':
      throw new Error('this host is no machine that was started from a recovery medium');
    case 'systemTest':
      return (await systemOf(question.from)).test(question.from);
    case 'systemFinds':
      return (await systemOf(question.from)).discover(question.from);
    case 'itemChanges':
      return (await tenantQuestions()).itemChanges(await openPoint(stores, question.point), question.from, question, () => false, walked);
    case 'itemView':
      return (
        (await (await tenantQuestions()).viewItem(await findItem(await openPoint(stores, question.point), question.path, walked))) ?? null
      );
    case 'itemAttachment':
      return (await tenantQuestions()).attachmentOf(
        await findItem(await openPoint(stores, question.point), question.path, walked),
        question.no,
      );
    case 'memberNow':
      return (await tenantQuestions()).memberNow(question.from);
    case 'bucketNow':
      return (await bucketQuestions()).bucketNow(question.server, question.bucket);
    case 'shareNow':
      return (await shareQuestions()).shareNow(question.server, question.share);
    case 'applicationLook':
      return (await applicationQuestions()).lookAtPlace(await openPoint(stores, question.point), question.paths, question);
    case 'resourcePair': {
      const point = await openPoint(stores, question.point);
      return (await applicationQuestions()).resourcePair(point, question.path, question.server, question.namespace);
    }
    case 'tryRules':
      return (await import('../scan/rule-set')).tryRules(question.rules, question.sample);
    case 'sensitiveIn':
      return (await import('../scan/show-sensitive')).sensitiveIn(stores, question);
    case 'switchVolume':
      await (await applicationQuestions()).switchTo(question.server, question.namespace, question.from, question.to);
      return {};
    case 'removeVolume':
      await (await applicationQuestions()).removeVolume(question.server, question.namespace, question.claim);
      return {};
    case 'commits': {
      const { point, around } = question;
      const { store, root } = await openPoint(stores, point);
      return (await databaseQuestions()).commitsOf(store, root, around);
    }
    case 'compareRows':
      return (await databaseQuestions()).compareRows(question.from, question.pair);
    case 'swapTables':
      return { remarks: await (await databaseQuestions()).swapTables(question.from, question.pair) };
    case 'inside':
      return (await databaseQuestions()).insideScratch(question.taskId);
    case 'rowsInside':
      return (await databaseQuestions()).rowsInside(question.taskId, question.table, question.which);
    case 'compareInside':
      return (await databaseQuestions()).compareInside(question.taskId, question.from.server, question.table);
    case 'endScratch':
      (await databaseQuestions()).endScratch(question.taskId);
      return {};
    case 'platformTest':
      return testOf(question.platform);
    case 'insideTest':
      return testInside(question.platform, question.machine, question.account);
    case 'insideFiles':
      return lookInsideMachine(question.platform, question.machine, question.account, question.places);
    case 'platformInventory':
      return inventoryOf(question.platform);
    case 'takeSnapshots':
      return takeSnapshots(question.platform, question.storages, question.name);
    case 'removeSnapshot':
      await platformClient(question.platform).removeStorageSnapshot(question.at);
      return {};
    case 'removeMade':
      await removeMade(cloudClient(question.platform), question.machine, question.taskId);
      return {};
    case 'documentText':
      return documentText(stores, question.point, question.path);
    case 'shareTest':
      return shareTestOf(question.share);
    case 'targetTest':
      return testPlace(question.place, limits);
    case 'targetCreate':
      await stores.create(question.target, question.siblings);
      return {};
    case 'targetTakeOver':
      await stores.takeOver(question.target, question.envelope, question.passphrase);
      return {};
    case 'targetOwn':
      await stores.own(question.target);
      return {};
    case 'targetNewKey':
      await stores.newKey(question.target);
      return {};
    case 'targetRoom':
      return roomOf(await stores.of(question.target), question.target.owner);
    case 'keepSettings': {
      const store = await stores.of(question.target);
      await keepSettings(store, question);
      await keepReader(store);
      return {};
    }
    case 'keptSettings':
      return (await keptSettings(await stores.of(question.target))) ?? null;
    case 'cartridges':
      return cartridgesOf(await stores.of(question.target));
    case 'cartridgesNeeded':
      return cartridgesNeeded(await stores.ofPoint(question.point), question.point, question.paths);
    case 'envelope': {
      const store = await stores.of(question.target);
      return JSON.stringify(makeEnvelope(store.keys, store.header, question.name, question.passphrase), null, 2);
    }
    case 'compare':
      return compare(question, stores, limits);
    case 'attached':
      return attachedBy(question.taskId);
    case 'front':
      return frontOf(stores, question.point, question.path, question.most);
    case 'openedFolder':
      return openedFolder(stores, question.point, question);
    case 'mailStores':
      return mailStores(stores, question.point, question.path);
    case 'openedItems':
      return openedItems(stores, question.point, question.paths, question.most);
    case 'look':
      return lookAhead(question.places, question.destination, limits, question.cameFrom ?? undefined);
  }
}

/** How a system is asked. Throws UNKNOWN_KIND for a kind that is not found in one. */
async function systemOf({ kind }: From): Promise<NonNullable<Connector['system']>> {
  const { system } = await connectorOf(kind);
  if (!system) throw new Error(`workloads of the kind ${kind} are not found in systems`);
  return system;
}

/** Whether a place can become a target. */
async function testPlace(place: TargetPlace, limits: HostLimits): Promise<TargetTest> {
  switch (place.kind) {
    case 'folder':
      return testFolder(place.folder, limits);
    case 'bucket':
      return testBucket(place);
    case 'cartridges':
      return testCartridges(place);
  }
}

async function testCartridges(place: CartridgePlace): Promise<TargetTest> {
  const { needs, holdsStore, free } = await checkCartridges(place);
  const missing = needs.filter((n) => n.problem).map((n) => n.right.toLowerCase());
  const rest = { holdsStore, locks: false, free, needs: [...needs] };
  if (missing.length) return { ok: false, message: `This is missing: ${missing.join(', ')}.`, ...rest };
  if (holdsStore) return { ok: false, message: 'The cartridges hold a store already.', ...rest };
  return { ok: true, message: 'The mover can do there all it needs.', ...rest };
}

/** Whether a folder can become a target. */
function testFolder(folder: string, limits: HostLimits): TargetTest {
  let nearest = folder;
  while (nearest !== '/' && !existsSync(nearest)) nearest = path.dirname(nearest);
  const { bavail, bsize } = statfsSync(nearest);
  const free = bavail * bsize;
  const refuse = (message: string, holdsStore = false): TargetTest => ({ ok: false, holdsStore, locks: true, free, message, needs: [] });
  try {
    limits.checkTarget(bytesOfText(folder));
  } catch (error) {
    return refuse((error as Error).message);
  }
  if (!statSync(nearest).isDirectory()) return refuse(`${nearest} is no folder.`);
  try {
    accessSync(nearest, constants.W_OK);
  } catch {
    return refuse('The mover may not write there.');
  }
  const entries = existsSync(folder) ? readdirSync(folder) : [];
  if (entries.includes('lithodex-store.json')) return refuse('The folder already holds a store.', true);
  if (entries.length) return refuse('The folder is not empty.');
  return { ok: true, holdsStore: false, locks: true, free, message: 'The mover can write there.', needs: [] };
}

/** Whether a bucket can become a target. */
async function testBucket(place: BucketPlace): Promise<TargetTest> {
  const { needs, holdsStore, locks } = await checkBucket(place);
  const missing = needs.filter((n) => n.problem).map((n) => n.right.toLowerCase());
  const rest = { holdsStore, locks, free: null, needs: [...needs] };
  if (missing.length) return { ok: false, message: `This is missing: ${missing.join(', ')}.`, ...rest };
  if (holdsStore) return { ok: false, message: 'There is a store at this place already.', ...rest };
  return { ok: true, message: 'The mover can do there all it needs.', ...rest };
}

function side(entry: TreeEntry | undefined): ComparedItem['then'] {
  if (!entry) return null;
  return {
    kind: entry.kind,
    size: entry.size,
    mtimeNs: String(entry.mtimeNs),
    mode: entry.mode,
    uid: entry.uid,
    gid: entry.gid,
    attributes: entry.attributes?.length ?? 0,
    linkTarget: entry.linkTarget ?? null,
  };
}

async function compare(question: Extract<Question, { ask: 'compare' }>, stores: Stores, limits: HostLimits): Promise<ComparedItem[]> {
  const { point } = question;
  const { store, top } = await openPoint(stores, point);
  const entry = await store.trees.find(top, question.path);
  const stored = question.folder && entry.folder ? await store.trees.folder(entry.folder.node) : [];
  const tree = treeNow(point.root, question.readAs, limits);
  let rows: Comparison[];
  try {
    rows = question.folder ? compareFolder(tree, question.path, stored) : [await compareItem(tree, question.path, entry, treeOf(store))];
  } finally {
    tree?.close();
  }
  return rows.map((r) => ({ name: r.name, since: r.since, then: side(r.then), now: side(r.now), sameContent: r.sameContent ?? null }));
}
