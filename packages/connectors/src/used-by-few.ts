/** What is asked of mailboxes and other members of a tenant. Loaded by those that ask, as it brings large libraries. */
export const tenantQuestions = () => import('./tenant/questions');
/** What is asked of databases, and of scratch servers that stay up. */
export const databaseQuestions = () => import('./databases/questions');
/** What is asked of buckets where something is to be brought back. */
export const bucketQuestions = () => import('./buckets/found-buckets');
/** What is asked of file servers where something is to be brought back. */
export const shareQuestions = () => import('./fileserver/found-shares');
/** What is asked of applications of container clusters. */
export const applicationQuestions = () => import('./cluster/application-questions');
/** What is asked of mail stores inside other items. */
export const mailStoreQuestions = () => import('./mailstore/questions');
/** Servers of the mover's own with what a point of a database server holds. */
export const scratchCopies = () => import('./databases/scratch-copy');
/** Namespaces of clusters in which applications are tried. */
export const drillNamespaces = () => import('./cluster/drill-namespace');
