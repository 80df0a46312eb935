"""What the services take and give, a module a place: checked when read, and described to the API from here."""

from openmeadow.services.models.account import *
from openmeadow.services.models.campaigns import *
from openmeadow.services.models.changes import *
from openmeadow.services.models.common import *
from openmeadow.services.models.consent import *
from openmeadow.services.models.duplicates import *
from openmeadow.services.models.fields import *
from openmeadow.services.models.health import *
from openmeadow.services.models.jobs import *
from openmeadow.services.models.providers import *
from openmeadow.services.models.relay import *
from openmeadow.services.models.results import *
from openmeadow.services.models.schedule import *
from openmeadow.services.models.segments import *
from openmeadow.services.models.senders import *
from openmeadow.services.models.sequences import *
from openmeadow.services.models.subscribers import *
from openmeadow.services.models.today import *
