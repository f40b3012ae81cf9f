/** Made by `make contract` from the life cycles, the limits and the glossary in src/restless_tide/core: do not change it here. */
export const CONSIGNMENT_ON_ITS_WAY: readonly string[] = ["queued", "sending", "processing"]
export const CONSIGNMENT_GOES_ON: readonly string[] = ["queued", "sending", "processing", "held", "ready"]
export const INVITATION_STATES = ["queued", "sent", "accepted", "installed", "bounced", "declined", "removed"] as const
export const INVITATION_OF_MEMBERS: readonly string[] = ["queued", "sent", "accepted", "installed", "bounced", "declined"]
export const INVITATION_SITS: readonly string[] = ["queued", "sent", "accepted", "installed", "bounced"]
export const STOPPING: readonly string[] = ["pause", "halt"]
export const LEG_LAUNCHED: readonly string[] = ["rising", "paused", "complete", "halted", "withdrawn", "superseded"]
export const LEG_PART_WAY: readonly string[] = ["rising", "paused", "halted"]
export const LEG_STOPPED: readonly string[] = ["halted", "withdrawn"]
export const NOTICE_KINDS = ["processing ended", "held by a question", "approved", "rejected", "reviewer wrote", "review longer than usual", "launch ahead", "launch stands still", "breach", "guard blind", "order failing", "order refused", "step waiting", "changed at the store", "offered again", "event not taken", "rules changing", "not moved up", "key or standing expiring"] as const
export const ORDER_PENDING: readonly string[] = ["queued", "sent"]
/** How stores rise beside each other, in words. */
export const PACES = {"free": "each store for itself", "in step": "in step: no store more than one stage ahead of the slowest", "lead": "one store leads"} as const
/** The days of a week, as launch hours name them. */
export const DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const
/** How a standing check is made, in words. */
export const CHECK_KINDS = {"question": "a question that a person answers with yes for each release", "no words": "words that no text and no release notes may contain", "no permission": "a permission that no build may ask for", "pictures": "a class of pictures and how many must be there in each language, such as phone 3"} as const
export const REPORT_KINDS = ["remark", "crash"] as const
export const REPORT_STATES = ["new", "accepted", "duplicate of", "fixed in", "closed"] as const
export const PRODUCTION = "production"
export const DOCUMENT_FORMATS = ["pdf", "png", "jpeg", "text"] as const
export const WATCHED = ["people who met a crash", "sessions that crashed", "hangs", "ratings", "uptake"] as const
export const ON_BREACH = ["tell", "pause", "halt"] as const
/** What each gauge can be compared with. */
export const COMPARES = {"people who met a crash": ["the version before", "the version before at the same share", "a fixed bound"], "sessions that crashed": ["the version before", "the version before at the same share", "a fixed bound"], "hangs": ["the version before", "the version before at the same share", "a fixed bound"], "ratings": ["the version before", "a fixed bound"], "uptake": ["the version before at the same share"]} as const
/** The change that a guard accepts where nobody names another: a ratio, or stars. */
export const TOLERANCES = {"people who met a crash": 1.25, "sessions that crashed": 1.25, "hangs": 1.25, "ratings": 0.3, "uptake": 2.0} as const
/** What a guard looks at, and what it counts among it, in words. */
export const UNITS = {"people who met a crash": "sessions", "sessions that crashed": "sessions", "hangs": "sessions", "ratings": "ratings", "uptake": "people"} as const
export const EVENTS = {"people who met a crash": "people who met a crash", "sessions that crashed": "sessions that crashed", "hangs": "hangs", "ratings": "of one or two stars", "uptake": "first starts"} as const
export const GUARD = {"errorBound": 0.01, "leastPeople": 200, "highestTolerance": 10.0, "mostStars": 3.0, "longestName": 60, "longestSilenceHours": 720.0}
/** What is counted in an hour, in words. */
export const COUNTED = {"people": "people active in the hour", "sessions": "sessions", "crashed_sessions": "sessions that ended in a crash", "crashed_people": "people who met a crash", "hangs": "hangs", "first_starts": "people who began this version", "stars_1": "ratings of 1 stars", "stars_2": "ratings of 2 stars", "stars_3": "ratings of 3 stars", "stars_4": "ratings of 4 stars", "stars_5": "ratings of 5 stars"} as const
/** The colours of versions that follow each other. */
export const BANDS = ["#4d9c97", "#c9b27c", "#7f9fb5", "#b58a7a", "#8fae7f", "#a593b8"] as const
/** How a ladder is written. */
export const LADDER_WRITTEN = "per cent @ hours to hold it, or @steady and hours: 5@24,20@steady12/2000,100"
/** The kind of a change that says: load everything anew. */
export const START_OVER = "start over"
/** What each right means, in words. */
export const RIGHTS = {"who": "see who is signed in", "account": "keep their own password, sessions and tokens", "see-builds": "see apps, builds and tracks", "see": "see releases, the dossier, statistics, stores and the logbook", "see-testers": "see testers, their addresses and what they send", "subscribe": "have notices sent", "hand-in": "send builds to stores, and reserve numbers", "hand-out": "give builds to cohorts and their tracks", "report": "file field reports", "enter-counts": "enter what a store counted", "fetch-files": "fetch the sealed signing files", "keep-testers": "keep testers, cohorts and field reports", "prepare": "prepare releases: texts, pictures, answers, notes", "stop": "pause and halt rollouts", "steer": "hand in to review, launch, raise, withdraw and promote; set guards", "arrange-apps": "register and retire apps, open their places at stores, keep their signing", "arrange-desk": "connect stores; set ladders and freezes", "manage-people": "invite people, change what they may do, end their access"} as const
/** The roles of people, with the rights of each. */
export const ROLES = {"reader": ["account", "see", "see-builds", "subscribe", "who"], "testers-keeper": ["account", "hand-out", "keep-testers", "report", "see", "see-builds", "see-testers", "subscribe", "who"], "release-manager": ["account", "arrange-apps", "arrange-desk", "enter-counts", "fetch-files", "hand-in", "hand-out", "keep-testers", "prepare", "report", "see", "see-builds", "see-testers", "steer", "stop", "subscribe", "who"], "owner": ["account", "arrange-apps", "arrange-desk", "enter-counts", "fetch-files", "hand-in", "hand-out", "keep-testers", "manage-people", "prepare", "report", "see", "see-builds", "see-testers", "steer", "stop", "subscribe", "who"]} as const
/** What someone with a role is, in words. */
export const ROLE_TOLD = {"reader": "a reader", "testers-keeper": "a testers' keeper", "release-manager": "a release manager", "owner": "an owner", "build-server": "a build server"} as const
/** The longest that is taken: characters, months, hours, or counts. */
export const LIMITS = {"shortestPassword": 10, "code": 40, "line": 300, "locale": 35, "reference": 80, "goodName": 300, "goodText": 4000, "months": 24, "freezeName": 60, "ladderName": 60, "ladderText": 300, "hours": 8784.0, "counted": 1000000000000, "conditions": 10, "alternatives": 5, "people": 20}
export const GLOSSARY: Readonly<Record<string, string>> = {
  "desk": "The whole service that a team works at: its records, its console and its connections to the stores.",
  "store": "One account at one store. It is reached through a gateway, or a person carries each step to it by hand.",
  "hand-carried": "Of a store without a gateway: the desk prepares each step, and a person does it on the store's own pages.",
  "gateway": "The address at which a store, or an adapter in front of it, takes orders and tells what has happened.",
  "rulebook": "A store's rules as data: what it takes, asks, reviews and allows. The desk checks by it before anything is sent.",
  "berth": "An app's place at a store, with the name, countries and price it has there.",
  "build": "One version and build number of an app for one platform: a package, or several for different devices.",
  "facts": "What was read out of a package: name, version, signatures, permissions, sizes.",
  "consignment": "A build on its way into a store: queued, sending, processing, ready; or held while the store waits for an answer.",
  "cohort": "A group of testers of an app: crew (staff), guest (invited people) or walk-in (anybody with the link).",
  "trial": "A build handed to a cohort at a store.",
  "trial brief": "What testers and the store's reviewer are told: what to look at, whom to ask, how to sign in.",
  "field report": "What comes back from people who test: a remark, with pictures, or a crash.",
  "track": "A way at a store by which builds reach people: for cohorts, for people who chose it, or for everybody. Production is the last.",
  "placement": "A build on a track: by a trial where the track is for cohorts, by a release's leg on any other.",
  "promote": "Move a build that a track offers on to another track. Nothing is sent again.",
  "release": "A version of an app going to production. It has one leg per store, and one for each other track that it goes to.",
  "leg": "A release at one store, on production or another track: its build, its review and its rollout there.",
  "round": "One attempt of a leg at the store's review.",
  "matter": "One reason of a store's refusal, as work. While it is open the release is not handed in again; an approval settles it.",
  "check": "What a refusal has taught: looked at before every later hand-in of the app, by the desk or by a person who ticks it.",
  "launch": "Making an approved leg live once all its conditions hold, in any combination: go-aheads, an instant, launch hours, other stores, a trial.",
  "go-ahead": "A person's word that an approved leg may launch.",
  "ladder": "The stages of a rollout: each a share of people, and what ends it: hours, a person, or guards that were steady for some hours.",
  "pace": "How the stores of a release rise beside each other: in step, after one that leads, or each for itself.",
  "rollout": "A leg's way up its ladder. It can be paused, resumed, halted, finished and withdrawn.",
  "guard": "A rule that watches a rollout, hour by hour, and may pause or halt it when it is clearly worse than the version before.",
  "freeze": "A window in which nothing launches and no share rises. Halts, pauses and withdrawals always go.",
  "gauge": "What is counted of a version by the hour: people, sessions, crashes, hangs, first starts, ratings.",
  "verdict": "What a guard says: steady, watch (something may be wrong) or breach (it is sure). Blind: it has nothing to compare with.",
  "pause": "The share stays where it is and the stage's clock stops. People who were offered the build still get it.",
  "halt": "The store offers the build to nobody new. Those who have it keep it.",
  "withdraw": "The release is taken down. Those who have it keep it; the store may offer the release before again.",
  "order": "What the desk has asked a store to do. It is sent until the store has answered, and takes effect once.",
  "confirmed": "The store has said that it holds what was ordered. Until then the desk shows what was last seen there.",
  "sighting": "What a store was last seen to hold, kept apart from what was ordered.",
  "step": "Something a person has to do at a store by hand, with what to take there and what to look for.",
  "drill": "A halt that goes its whole way to a store and changes nothing, to know that the button works.",
  "dossier": "All that stores ask about an app besides builds. What several stores ask is entered once and serves them all.",
  "topic": "A question that several stores ask, by what it means. It is answered once; each store gets the answer in its own words.",
  "good": "Something that people can buy inside an app, under a reference that stays. It is entered once, and sold where it can be.",
  "readiness sheet": "What a store wants before a release can go to its people: what is there, what is missing, and which act helps.",
  "finding": "One line of a readiness sheet: a blocker stops it, a caution is to be looked at, a note is good to know.",
  "logbook": "Who did what, when and why. Lines are only added, and each proves the ones before it."
}
