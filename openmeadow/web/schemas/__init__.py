"""Everything that requests and responses are made of: the services' models, and what stands in a query."""

from openmeadow.services.models import *
from openmeadow.web.schemas.queries import *
