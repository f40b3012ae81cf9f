"""What was read out of a package: one typed model for all formats."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

PLATFORM_OF_FORMAT = {"apk": "android", "ipa": "ios", "msix": "desktop"}


class Facts(BaseModel):
    """The facts of one package file. Levels are as the platform writes them (``"26"``, ``"15.0"``)."""

    model_config = ConfigDict(frozen=True, defer_build=True)

    format: str = Field(description="apk, ipa or msix")
    identifier: str
    version: str = Field(description="what people see")
    number: int = Field(description="what machines compare")
    lowest_platform: str | None = None
    target_platform: str | None = None
    permissions: tuple[str, ...] = ()
    label: str | None = None
    debuggable: bool = False
    processors: tuple[str, ...] = Field(default=(), description="processor kinds it is built for; none: any")
    publisher: str | None = None
    size_bytes: int
    sha256: str

    @property
    def platform(self) -> str:
        """The platform that the format belongs to."""
        return PLATFORM_OF_FORMAT[self.format]
