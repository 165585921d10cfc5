"""The kinds of condition that the core knows, one class each, in the order of the schema."""

from meadowrun.core.audience.kinds.amounts import ScoreKind, ShareKind
from meadowrun.core.audience.kinds.consent import ConsentKind, ReachKind
from meadowrun.core.audience.kinds.event import EventKind
from meadowrun.core.audience.kinds.field import FieldKind
from meadowrun.core.audience.kinds.groups import GroupKind
from meadowrun.core.audience.kinds.kind import KINDS as KINDS
from meadowrun.core.audience.kinds.kind import Kind as Kind
from meadowrun.core.audience.kinds.kind import register as register
from meadowrun.core.audience.kinds.mail import MailKind
from meadowrun.core.audience.kinds.sets import GroupingKind, ListKind, SegmentKind, TagKind

register(
    GroupKind(),
    FieldKind(),
    EventKind(),
    MailKind(),
    ConsentKind(),
    ReachKind(),
    ListKind(),
    SegmentKind(),
    GroupingKind(),
    TagKind(),
    ScoreKind(),
    ShareKind(),
)
