import { sha256 as hashing } from '@noble/hashes/sha2.js'
import { bytesToHex } from '@noble/hashes/utils.js'
import createClient from 'openapi-fetch'
import { DetailedError, Upload } from 'tus-js-client'

import type { components, paths } from './schema'

type Schemas = components['schemas']
export type Release = Schemas['ReleaseTold']
export type Leg = Schemas['LegTold']
export type Option = Schemas['OptionTold']
export type Act = Option['act']
export type Phase = Leg['phase']
export type Stage = Schemas['Stage']
export type Build = Schemas['BuildTold']
export type Consignment = Schemas['ConsignmentTold']
export type Cohort = Schemas['CohortTold']
export type CohortDetail = Schemas['CohortDetailTold']
export type Member = Schemas['MemberTold']
export type Tester = Schemas['TesterTold']
export type ImportSheet = Schemas['ImportTold']
export type Trial = Schemas['TrialTold']
export type TrialSheet = Schemas['TrialSheetTold']
export type Invitation = Schemas['InvitationTold']
export type InvitationState = Invitation['state']
export type Report = Schemas['ReportTold']
export type ReportDetail = Schemas['ReportDetailTold']
export type CrashGroup = Schemas['GroupTold']
export type BuildNumbers = Schemas['BuildNumbersTold']
export type Board = Schemas['BoardTold']
export type TrackCell = Schemas['CellTold']
export type Track = Schemas['TrackTold']
export type Placement = Schemas['PlacementTold']
export type MoveSheet = Schemas['MoveSheetTold']
export type TrackRule = Schemas['TrackRuleTold']
export type Store = Schemas['StoreTold']
export type App = Schemas['AppTold']
export type Overview = Schemas['OverviewTold']
export type BerthRow = Schemas['BerthRow']
export type Line = Schemas['LineTold']
export type Person = Schemas['PersonTold']
export type Me = Schemas['MeTold']
export type Right = Schemas['Right']
export type Finding = Schemas['FindingTold']
export type Change = Schemas['ChangeTold']
export type Step = Schemas['StepTold']
export type BerthDetail = Schemas['BerthDetailTold']
export type OfferSheet = Schemas['OfferSheetTold']
export type Subscription = Schemas['SubscriptionTold']
export type Delivery = Schemas['DeliveryTold']
export type Outlook = Schemas['OutlookTold']
export type Facts = Schemas['Facts']
export type Sheet = Schemas['SheetTold']
export type Comparison = Schemas['ComparisonTold']
export type Difference = Schemas['DifferenceTold']
export type Clearing = Schemas['ClearingTold']
export type Expiry = Schemas['AppExpiryTold']
/** What a search has found; pages and acts of the console join what the desk finds. */
export type Found = Omit<Schemas['FoundTold'], 'kind'> & { kind: string }
export type Register = Schemas['RegisterTold']
export type Proposal = Schemas['ProposalTold']
export type Reservation = Schemas['ReservationTold']
export type StandingAnswer = Schemas['StandingAnswerTold']
export type Changed = Schemas['ChangedTold']
export type NoticeKind = Subscription['kinds'][number]
type ProblemDocument = Schemas['Problem']

/** What went wrong, as the service says it (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly remedy: string,
    detail: string,
    readonly code = '',
  ) {
    super(detail)
  }
}

export const api = createClient<paths>({ credentials: 'same-origin' })

/** The ETag of what was read last, by path. */
const tags = new Map<string, string>()
api.use({
  onResponse({ request, response }) {
    const tag = response.headers.get('etag')
    if (request.method === 'GET' && response.ok && tag) tags.set(new URL(request.url).pathname, tag)
  },
})

/** The condition of a change: what is read at a path now. Taken when someone begins to edit, it has the change refused (412)
 * where somebody else was quicker. */
export function asRead(path: string): { 'If-Match'?: string } {
  const tag = tags.get(path)
  return tag ? { 'If-Match': tag } : {}
}

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** The answer's data, or the service's problem raised as an error. */
export async function told<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await asked
  } catch {
    throw new Problem(0, 'Check that the service runs; nothing is lost.', 'The desk does not answer.')
  }
  if (!answer.response.ok) {
    const problem = answer.error as Partial<ProblemDocument> | undefined
    throw new Problem(answer.response.status, problem?.remedy ?? '', problem?.detail ?? `The desk answered ${answer.response.status}.`, problem?.code)
  }
  return answer.data as T
}

const CHUNK_BYTES = 16 * 1024 * 1024

/** Hand a package file over by tus: digested piece by piece here, taken up again where it was cut. */
export async function handOver(file: File, progress: (part: number) => void): Promise<string> {
  const hash = hashing.create()
  for (let at = 0; at < file.size; at += CHUNK_BYTES) hash.update(new Uint8Array(await file.slice(at, at + CHUNK_BYTES).arrayBuffer()))
  const sha256 = bytesToHex(hash.digest())
  const known = await fetch(`/v1/packages/${sha256}`, { method: 'HEAD' })
  if (known.ok) return sha256
  await new Promise<void>((done, failed) => {
    const upload = new Upload(file, {
      endpoint: '/v1/uploads',
      metadata: { sha256, filename: file.name },
      chunkSize: CHUNK_BYTES,
      retryDelays: [0, 500, 1500, 4000, 8000, 15000],
      storeFingerprintForResuming: false,
      onProgress: (sent, whole) => progress(sent / Math.max(whole, 1)),
      onSuccess: () => done(),
      onError: (wrong) => {
        const answer = wrong instanceof DetailedError ? wrong.originalResponse : null
        const document = readProblem(answer?.getBody() ?? '')
        failed(new Problem(answer?.getStatus() ?? 0, document.remedy ?? 'Choose the file again; what has arrived is not sent twice.', document.detail ?? 'The connection broke while the file was on its way.'))
      },
    })
    upload.start()
  })
  return sha256
}

function readProblem(text: string): Partial<ProblemDocument> {
  try {
    return JSON.parse(text) as Partial<ProblemDocument>
  } catch {
    return {}
  }
}

/** Post a file as it is, and read the answer. */
export async function postFile<T>(path: string, file: Blob, mediaType = 'application/octet-stream'): Promise<T> {
  const answer = await fetch(path, { method: 'POST', body: file, headers: { 'Content-Type': mediaType }, credentials: 'same-origin' })
  if (answer.ok) return (await answer.json()) as T
  const document = readProblem(await answer.text())
  throw new Problem(answer.status, document.remedy ?? '', document.detail ?? `The desk answered ${answer.status}.`)
}
