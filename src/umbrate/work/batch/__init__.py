"""Batches: many folders of photos, each made into a job, run by one recipe and delivered, without anybody there."""
