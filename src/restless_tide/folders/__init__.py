"""The dossier as a folder of files: read, written, compared with a desk, and packed for the way."""
