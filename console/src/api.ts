import createClient from 'openapi-fetch'

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
export type Trial = Schemas['TrialTold']
export type Store = Schemas['StoreTold']
export type App = Schemas['AppTold']
export type Overview = Schemas['OverviewTold']
export type BerthRow = Schemas['BerthRow']
export type Line = Schemas['LineTold']
export type Person = Schemas['PersonTold']
export type Finding = Schemas['FindingTold']
export type Change = Schemas['ChangeTold']
export type Step = Schemas['StepTold']
export type BerthDetail = Schemas['BerthDetailTold']
export type OfferSheet = Schemas['OfferSheetTold']
export type Subscription = Schemas['SubscriptionTold']
export type Delivery = Schemas['DeliveryTold']
export type NoticeKind = Subscription['kinds'][number]
type ProblemDocument = Schemas['Problem']

/** What went wrong, as the service says it (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly remedy: string,
    detail: string,
  ) {
    super(detail)
  }
}

export const api = createClient<paths>({ credentials: 'same-origin' })

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
    throw new Problem(answer.response.status, problem?.remedy ?? '', problem?.detail ?? `The desk answered ${answer.response.status}.`)
  }
  return answer.data as T
}

/** Hand a package file over: digested here, streamed there, refused there if the digest differs. */
export async function handOver(file: File, progress: (part: number) => void): Promise<string> {
  const digest = await crypto.subtle.digest('SHA-256', await file.arrayBuffer())
  const sha256 = [...new Uint8Array(digest)].map((byte) => byte.toString(16).padStart(2, '0')).join('')
  await new Promise<void>((done, failed) => {
    const request = new XMLHttpRequest()
    request.open('PUT', `/v1/packages/${sha256}`)
    request.upload.onprogress = (event) => progress(event.loaded / event.total)
    request.onerror = () => failed(new Problem(0, 'Choose the file again.', 'The connection broke while the file was on its way.'))
    request.onload = () => {
      if (request.status < 300) return done()
      const problem = readProblem(request.responseText)
      failed(new Problem(request.status, problem.remedy ?? '', problem.detail ?? `The desk answered ${request.status}.`))
    }
    request.send(file)
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
