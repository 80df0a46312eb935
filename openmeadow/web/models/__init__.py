"""Request and response models, a module a place; the API's description and the TypeScript types are made from these."""

from openmeadow.web.models.campaigns import *
from openmeadow.web.models.common import *
from openmeadow.web.models.consent import *
from openmeadow.web.models.entrance import *
from openmeadow.web.models.health import *
from openmeadow.web.models.plans import *
from openmeadow.web.models.providers import *
from openmeadow.web.models.queries import *
from openmeadow.web.models.relay import *
from openmeadow.web.models.results import *
from openmeadow.web.models.segments import *
from openmeadow.web.models.senders import *
from openmeadow.web.models.sequences import *
from openmeadow.web.models.subscribers import *
from openmeadow.web.models.today import *
