export function standing(
  file: string,
  names?: readonly string[],
): { readonly until: number; readonly from: number; readonly missing: readonly string[]; readonly names: string } | undefined;
export function ownCertificate(
  folder: string,
  names: readonly string[],
): { readonly certificate: string; readonly key: string; readonly authority: string; readonly renewed: boolean };
