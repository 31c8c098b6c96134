/** What names of tables begin with that are loaded and not in place yet; part of the id of the task follows. */
export const temporaryName = 'lithodex_';
