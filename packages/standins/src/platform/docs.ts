/** The programs' side of the platform, as its makers would describe it. */
export const platformDocs = `Platform stand-in: what programs may ask

Sign in, then send "authorization: Bearer TOKEN". Bodies and answers are JSON unless said otherwise; an error is {code, message}.

POST   /v1/sessions                    {account, password} or {certificate, challenge, signature}: {token}
POST   /v1/challenges                  {}: {challenge}, to be signed by the key of the certificate (SHA-256)
GET    /v1/session                     {account, rights, passwordEnds}
GET    /v1/inventory                   clusters with their networks and which are isolated, storages, machines with their disks and the services their helpers tell, what names may be
GET    /v1/machines/M                  one machine
POST   /v1/machines                    make a machine with empty disks, or with such that lie in the network: {remote: {host, port, name, user, key}} (NBD over TLS 1.3, by a shared key)
PUT    /v1/machines/M                  change its place, tags, note, or {running}
DELETE /v1/machines/M                  remove a machine that does not run
POST   /v1/machines/M/inside           {name, password} of an account inside: {system}, or INSIDE_REFUSED
POST   /v1/machines/M/files/mounts     {account}: where volumes of the disks are mounted: [{disk, volume, at}]; account null where the helper inside answers
POST   /v1/machines/M/files/list       {account, path}: {items: [{name, kind, size, mtime}]}, or null where there is no such folder
POST   /v1/machines/M/files/read       {account, path}: the bytes of a file
POST   /v1/machines/M/files/sum        {account, path}: {sum}, SHA-256 of a file
POST   /v1/machines/M/files/make       {account, path, item: {kind: folder} or {kind: link, target}, properties: {mode, uid, gid, mtime}}
POST   /v1/machines/M/files/write      a line of JSON {account, path, upload, last: properties or null}, then bytes: a piece of a file
POST   /v1/machines/M/snapshots        {name, quiesce, inside?}: {id, level, disks: [{id, size, changeId}]}; without a helper an account inside brings it to rest
DELETE /v1/machines/M/snapshots/S
POST   /v1/storages/S/snapshots        {name}: {id, storage, name, takenAt, machines}: all disks on a storage at one instant, as after a loss of power; the inventory lists those there are
DELETE /v1/storages/S/snapshots/N
GET    /v1/storages/S/snapshots/N/disks/D/ranges
POST   /v1/storages/S/snapshots/N/disks/D/read   {ranges}: their bytes, one behind the other
POST   /v1/machines/M/disks/D/copy     {storage, pace}: copies a disk that lies in the network to a storage while the machine goes on; how far it is stands with the disk
POST   /v1/machines/M/cutover          lets all disks lie where they were copied to
GET    /v1/machines/M/disks/D/ranges   ?snapshot=S &since=CHANGE: [[offset, length], ...] that were written, ever or since then
GET    /v1/machines/M/disks/D/place    {folder, file}: where a disk lies, for programs that see its storage; NOT_FOUND where that is not told
POST   /v1/machines/M/disks/D/announce {ranges}: what is about to be written there; the machine must not run
POST   /v1/machines/M/disks/D/read     {snapshot, ranges}: their bytes, one behind the other
POST   /v1/machines/M/disks/D/write    a line of JSON with the ranges, then their bytes; the machine must not run
`;
