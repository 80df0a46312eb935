"""Request and response models, a module a place; the API's description and the TypeScript types are made from these."""

from openmeadow.web.schemas.account import *
from openmeadow.web.schemas.campaigns import *
from openmeadow.web.schemas.common import *
from openmeadow.web.schemas.consent import *
from openmeadow.web.schemas.health import *
from openmeadow.web.schemas.providers import *
from openmeadow.web.schemas.queries import *
from openmeadow.web.schemas.relay import *
from openmeadow.web.schemas.results import *
from openmeadow.web.schemas.schedule import *
from openmeadow.web.schemas.segments import *
from openmeadow.web.schemas.senders import *
from openmeadow.web.schemas.sequences import *
from openmeadow.web.schemas.subscribers import *
from openmeadow.web.schemas.today import *
