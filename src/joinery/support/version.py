"""The version, once."""

VERSION = "0.1.0"
