import { countOf, formatBytes, pathFilter } from '@lithodex/core';
import type { FilesFrom, FilesTo } from '@lithodex/kinds';
import type { Connector, RestoreContext, RestoreOutcome, RestorePick, SurveyContext, Surveyed } from '../connector';
import { rebuildDisks } from '../rebuild/rebuild-disks';
import { rebuildUnit } from '../rebuild/rebuild-unit';
import { restoreFiles } from './restore-files';
import { restoreToShare } from '../shares/restore-to-share';
import { restoreRound } from './restore-round';
import { surveyTree } from './survey';
import { takeFiles } from './take-files';
import { inWords } from './warning-words';

/** Folder trees of the mover's host. */
export const filesConnector: Connector<'files'> = { capture: takeFiles, survey: surveyFiles, restore };

function restore(ctx: RestoreContext, picks: readonly RestorePick[], to: FilesTo): Promise<RestoreOutcome> {
  if (to.share) return restoreToShare(ctx, picks, to.share);
  if (to.unit) return rebuildUnit(ctx, picks, to.unit);
  if (to.disks) return rebuildDisks(ctx, picks, to.disks);
  return to.round && !ctx.trial ? restoreRound(ctx, picks, to, to.round) : restoreFiles(ctx, picks, to);
}

async function surveyFiles(ctx: SurveyContext, from: FilesFrom): Promise<Surveyed> {
  let missing = 0;
  const survey = surveyTree(
    from.folder,
    pathFilter(ctx.include, ctx.exclude),
    from.targetFolders,
    from.readAs,
    ctx.limits,
    (path, cause) => {
      missing++;
      ctx.warn(inWords({ code: 'UNREADABLE', path, cause }));
    },
    ctx.stopped,
  );
  ctx.say(ctx.free !== null && ctx.free < survey.bytes ? 'warning' : 'note', {
    code: 'SIZE',
    path: '',
    message: `${countOf(survey.files, 'file')}, ${formatBytes(survey.bytes)} would be looked at; nothing was moved`,
  });
  return { ...survey, warnings: missing, missing };
}
