/** Made by `make contract` from the life cycles in src/restless_tide/core: do not change it here. */
export const CONSIGNMENT_ON_ITS_WAY: readonly string[] = ["queued", "sending", "processing"]
export const CONSIGNMENT_GOES_ON: readonly string[] = ["queued", "sending", "processing", "held", "ready"]
export const INVITATION_STATES = ["queued", "sent", "accepted", "installed", "bounced", "declined", "removed"] as const
export const INVITATION_OF_MEMBERS: readonly string[] = ["queued", "sent", "accepted", "installed", "bounced", "declined"]
export const INVITATION_SITS: readonly string[] = ["queued", "sent", "accepted", "installed", "bounced"]
export const LEG_LAUNCHED: readonly string[] = ["rising", "paused", "complete", "halted", "withdrawn", "superseded"]
export const LEG_PART_WAY: readonly string[] = ["rising", "paused", "halted"]
export const NOTICE_KINDS = ["processing ended", "held by a question", "approved", "rejected", "breach", "order failing", "order refused", "step waiting", "changed at the store", "offered again", "event not taken", "rules changing", "key or standing expiring"] as const
export const ORDER_PENDING: readonly string[] = ["queued", "sent"]
export const REPORT_STATES = ["new", "accepted", "duplicate of", "fixed in", "closed"] as const
