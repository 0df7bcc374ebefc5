"""A small stand-in for an application that receives what Wertis exports. It shares no code with it: it goes by docs/formats.md and general libraries."""
