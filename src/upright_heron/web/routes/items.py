"""The items of a job as a table, and changes to many of them at once."""

from __future__ import annotations

from fastapi import APIRouter

router = APIRouter(prefix="/jobs/{job_id}/items")
