"""The computation: arrays in, arrays out. No web, no database, no job queue."""
