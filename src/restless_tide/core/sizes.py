"""Sizes of files in words."""


def size(size_bytes: int) -> str:
    """Such as ``42.1 MB``."""
    amount = float(size_bytes)
    for unit in ("B", "kB", "MB"):
        if amount < 1000:
            return f"{amount:.0f} {unit}" if unit == "B" else f"{amount:.1f} {unit}"
        amount /= 1000
    return f"{amount:.2f} GB"
