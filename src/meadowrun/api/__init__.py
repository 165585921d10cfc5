"""The JSON API: everything a person can do with people and audiences, with keys and a
description."""
