import { bytesOfText, countOf, escapePath, formatBytes, joinPath, pathFilter } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import type { ShareFrom } from '@lithodex/kinds';
import type { SurveyContext, Surveyed } from '../connector';
import { mostDepth } from './capture-share';
import { endsAll, textOf } from './share-items';
import { SmbSession } from './smb-session';

/** Lists a share and reads no file. Throws SourceError, STOPPED. */
export async function surveyShare(ctx: SurveyContext, { server, share }: ShareFrom): Promise<Surveyed> {
  const session = await SmbSession.open(server, share);
  const filter = pathFilter(ctx.include, ctx.exclude);
  const counts = { items: 0, files: 0, bytes: 0, warnings: 0, missing: 0 };
  const walk = async (folder: string, depth: number): Promise<void> => {
    if (ctx.stopped()) throw new EngineError('STOPPED');
    let files;
    try {
      files = await session.list(textOf(folder));
    } catch (error) {
      if (endsAll(error) || folder === '') throw error;
      counts.warnings++;
      counts.missing++;
      ctx.warn({ code: 'FOLDER_UNREAD', path: escapePath(folder), message: (error as Error).message, missing: true });
      return;
    }
    for (const file of files) {
      const path = joinPath(folder, bytesOfText(file.name));
      if (filter.leftOut(path, file.isFolder)) continue;
      counts.items++;
      if (file.isFolder) {
        if (depth < mostDepth) await walk(path, depth + 1);
        continue;
      }
      counts.files++;
      counts.bytes += file.size;
    }
  };
  try {
    await walk('', 0);
  } finally {
    await session.close();
  }
  ctx.say('note', { code: 'FOUND', path: '', message: `${countOf(counts.files, 'file')}, ${formatBytes(counts.bytes)}` });
  return counts;
}
