import type { ClusterAccess } from './harbour-applications';
import type { CloudAccess } from './harbour-cloud';
import type { OfficeAccess } from './harbour-office';
import type { DatabaseAccess } from './harbour-database';
import type { SurveyAccess } from './harbour-surveys';
import type { PlatformAccess } from './harbour-platform';

/** Where the stand-ins are, and what opens them. */
export interface StandinAccess {
  readonly bucket: { endpoint: string; bucket: string; accessKey: string; secretKey: string };
  readonly library: { endpoint: string; token: string; barcodes: string };
  readonly platform: PlatformAccess;
  readonly berths: DatabaseAccess;
  readonly tide: DatabaseAccess;
  readonly office: OfficeAccess;
  readonly surveys: SurveyAccess;
  readonly clusters: { readonly jetty: ClusterAccess; readonly skerry: ClusterAccess };
  readonly skyfjord: CloudAccess;
  readonly smtpPort: number;
  /** Where the mover that keeps takes what others read. */
  readonly receivePort: number;
  readonly organisation: { readonly issuer: string; readonly clientId: string; readonly clientSecret: string };
}

/** A person takes a cartridge out of the library. */
export async function toTheShelf({ library }: Pick<StandinAccess, 'library'>, barcode: string): Promise<void> {
  const { ok } = await fetch(`${library.endpoint}/take-out/${barcode}`, { method: 'POST' });
  if (!ok) throw new Error(`${barcode} could not be taken out`);
}
