/** The pages of an app, in the order in which they stand under its name. */
export const OF_APP = [
  ['releases', 'Releases'], ['tracks', 'Tracks'], ['guards', 'Guards'], ['live', 'Live'], ['builds', 'Builds'], ['dossier', 'Dossier'], ['cohorts', 'Testing'], ['reports', 'Field reports'], ['signing', 'Signing'],
] as const

/** The pages of an app that stand under another of its pages. */
export const WITHIN = [['dossier/pictures', 'Dossier, pictures'], ['dossier/questions', 'Dossier, questions'], ['dossier/goods', 'Dossier, goods']] as const
