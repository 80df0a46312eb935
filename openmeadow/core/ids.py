"""The ids of rows, each of its own type, so that one kind cannot be given for another. In the database all are integers."""

from __future__ import annotations

from typing import NewType

SubscriberId = NewType("SubscriberId", int)
CampaignId = NewType("CampaignId", int)
MessageId = NewType("MessageId", int)
BatchId = NewType("BatchId", int)
DeliveryId = NewType("DeliveryId", int)
SegmentId = NewType("SegmentId", int)
SequenceId = NewType("SequenceId", int)
EnrolmentId = NewType("EnrolmentId", int)
PurposeId = NewType("PurposeId", int)

NOBODY = SubscriberId(0)  # where no subscriber is chosen
NO_DELIVERY = DeliveryId(0)  # of a test or a preview
NO_MESSAGE = MessageId(-1)  # what nobody was sent
