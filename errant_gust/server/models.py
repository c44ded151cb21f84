"""What is kept in the database: studies, their revisions, runs."""

from typing import Any

from django.db import models


class Study(models.Model):
    """A study; its document is that of its head revision. Deleted ones can be brought back."""

    key = models.CharField(max_length=40, primary_key=True)
    name = models.CharField(max_length=80)
    head: Any = models.ForeignKey("Revision", null=True, on_delete=models.SET_NULL, related_name="+")
    changed = models.DateTimeField(auto_now=True)
    created = models.DateTimeField(auto_now_add=True)
    deleted = models.DateTimeField(null=True)


class Revision(models.Model):
    """A whole document. Undo goes to the parent, redo to the newest child, so nothing is ever overwritten."""

    study = models.ForeignKey(Study, on_delete=models.CASCADE, related_name="revisions")
    parent: Any = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="children")
    document = models.JSONField()
    label = models.CharField(max_length=200)
    created = models.DateTimeField(auto_now_add=True)


class Run(models.Model):
    """A run in the frame store; the folder is named by its identity."""

    identity = models.CharField(max_length=40, primary_key=True)
    study = models.ForeignKey(Study, on_delete=models.CASCADE, related_name="runs")
    asked = models.ManyToManyField(Study, related_name="asked_runs")  # copies of a study share the runs they agree on
    flow = models.CharField(max_length=40)
    kind = models.CharField(max_length=40, default="")
    quality = models.CharField(max_length=10)
    state = models.CharField(max_length=10, default="waiting")  # waiting, running, stopped, done, failed
    message = models.CharField(max_length=400, default="")
    last = models.IntegerField()
    started = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)
    worker = models.CharField(max_length=120, default="")  # who computes it, or did last
    bytes = models.BigIntegerField(default=0)  # on disk, when it last ended
    memory = models.BigIntegerField(default=0)  # bytes that it needs at most, by estimate
    place = models.CharField(max_length=10, default="")  # "here", or where the setting says
    name = models.CharField(max_length=80, default="")  # its own, if somebody gave it one
    pinned = models.BooleanField(default=False)  # never freed
    sweep = models.CharField(max_length=40, default="", db_index=True)  # the sweep that it is of, if it is of one
    values = models.JSONField(default=dict)  # by path, what the sweep set for it
    gone = models.DateTimeField(null=True)  # deleted then; its frames are there until they are freed
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)
