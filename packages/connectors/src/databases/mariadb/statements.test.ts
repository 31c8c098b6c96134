import { describe, expect, it } from 'vitest';
import { splitTable, statementEnd, statementsOf } from './statements';

describe('statements', () => {
  it.each([
    ['SELECT 1; SELECT 2', 9],
    ["SELECT ';'; x", 11],
    ["SELECT 'it''s;'; x", 16],
    ["SELECT 'a\\';'; x", 14],
    ['SELECT `a;``b`; x', 15],
    ['SELECT 1 -- ;\n; x', 15],
    ['SELECT 1 /* ; */; x', 17],
    ["SELECT ';", undefined],
  ])('ends %s at %s', (text, end) => {
    expect(statementEnd(text, 0)).toBe(end);
  });

  it('takes keys to other tables out of a table, and nothing else', () => {
    const { make, keys, computes } = splitTable(
      "CREATE TABLE `b``x` (\n  `id` int NOT NULL COMMENT 'a, (b',\n  `n` int AS (id * (2)) STORED,\n  PRIMARY KEY (`id`),\n  KEY `k` (`n`),\n  CONSTRAINT `f``1` FOREIGN KEY (`n`) REFERENCES `o` (`i`) ON DELETE CASCADE,\n  CONSTRAINT `c` CHECK (`id` > 0)\n) ENGINE=InnoDB COMMENT='x) y'",
    );
    expect(keys).toEqual(['CONSTRAINT `f``1` FOREIGN KEY (`n`) REFERENCES `o` (`i`) ON DELETE CASCADE']);
    expect(computes).toBe(true);
    expect(make('`t`', [])).toBe(
      "CREATE TABLE `t` (\n  `id` int NOT NULL COMMENT 'a, (b',\n  `n` int AS (id * (2)) STORED,\n  PRIMARY KEY (`id`),\n  KEY `k` (`n`),\n  CONSTRAINT `c` CHECK (`id` > 0)\n) ENGINE=InnoDB COMMENT='x) y'",
    );
    expect(make('`t`', keys)).toContain('CONSTRAINT `c` CHECK (`id` > 0),\n  CONSTRAINT `f``1`');
  });

  it('refuses what makes no table', () => {
    expect(() => splitTable('DROP TABLE x')).toThrow(/no statement that makes a table/);
    expect(() => splitTable('CREATE TABLE `x`')).toThrow(/without columns/);
  });

  it('reads bodies of several statements as one', () => {
    const text =
      "SET NAMES utf8mb4;\nSET SQL_MODE = '';\nDELIMITER ;;\nCREATE PROCEDURE p()\nBEGIN SELECT ';'; SELECT 2; END;;\nDELIMITER ;\n";
    expect(statementsOf(text)).toEqual(['SET NAMES utf8mb4', "SET SQL_MODE = ''", "CREATE PROCEDURE p()\nBEGIN SELECT ';'; SELECT 2; END"]);
  });
});
