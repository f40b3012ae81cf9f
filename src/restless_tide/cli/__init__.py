"""The command line: argparse over the client library, a noun a file."""
