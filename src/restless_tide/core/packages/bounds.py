"""What reading a package may cost at most: every bound of the readers stands here and in docs/builds.md.

A bound on bytes holds before anything is parsed. What many small things add up to is bounded by ``Effort``: each
element, attribute, chunk, field, object or certificate that is looked at counts as a step.
"""

from __future__ import annotations

from restless_tide.core.errors import PackageUnreadable

MIB = 1024**2
DIRECTORY_LIMIT_BYTES = 16 * MIB
MEMBERS_LIMIT = 100_000
MEMBER_LIMIT_BYTES = 32 * MIB
"""Of a member that is read as a whole, unpacked."""
ICON_LIMIT_BYTES = 4 * MIB
TABLE_LIMIT_BYTES = 256 * MIB
"""Of a resource table that is stored as it is: it is mapped, not read into memory."""
MANIFEST_LIMIT_BYTES = 8 * MIB
"""Of a manifest in any binary form, and of an XML document inside a package."""
PROPERTY_LIST_LIMIT_BYTES = 2 * MIB
BLOCK_MAP_LIMIT_BYTES = 32 * MIB
SIGNED_DATA_LIMIT_BYTES = 4 * MIB
SIGNED_DATA_PARTS_LIMIT = 100_000
"""Of all the parts of signed data, at any depth."""
SIGNING_BLOCK_LIMIT_BYTES = 16 * MIB
LINEAGE_LIMIT = 100
"""Keys that came before a signer's."""
ICONS_LOOKED_AT = 100
"""Pictures of which the largest is the icon."""
UNPACKED_PER_BYTE = 200
UNPACKED_ALLOWANCE_BYTES = 256 * MIB
"""A package unpacks to no more than so many times its members' weight and this on top."""
STEPS_LIMIT = 400_000
LOOK_THROUGH_STEPS = 200_000
"""On top of it, for the languages and densities of a bundle; what is beyond is not read, and that is remarked."""
LONGEST_TEXT = 4_000
"""Signs of a text among the facts; the rest of a longer one is cut off."""
LONGEST_NAME = 4_096
"""Of a member of the archive."""
MOST_LISTED = 5_000
"""Of permissions, features, languages and other lists among the facts."""
SIGNERS_LIMIT = 10
"""Of one signature; devices take no more either."""
CERTIFICATES_LIMIT = 100
PARTS_LIMIT = 1_000
"""Extensions, frameworks and modules whose own lists are read."""
INNER_PACKAGES_LIMIT = 200


TOO_MUCH_WORK = "too-much-work"


class Effort:
    """What is left of the steps that one package may take. Raises PackageUnreadable when they are used up."""

    def __init__(self, steps: int = STEPS_LIMIT) -> None:
        self.left = steps

    def spend(self, steps: int = 1) -> None:
        self.left -= steps
        if self.left < 0:
            raise PackageUnreadable(
                "The package is made so that reading it would take far more work than any real one does.",
                remedy="Build the package again.",
                code=TOO_MUCH_WORK,
            )
