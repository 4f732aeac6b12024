"""The routes: one blueprint a subject. Handlers only translate between HTTP and `avocet.work`."""

from avocet.web.routes.anatomy import anatomy
from avocet.web.routes.audit import audit
from avocet.web.routes.classes import classes
from avocet.web.routes.detections import detections
from avocet.web.routes.evaluations import evaluations
from avocet.web.routes.events import events
from avocet.web.routes.exchange import exchange
from avocet.web.routes.jobs import jobs
from avocet.web.routes.judging import judging
from avocet.web.routes.media import media
from avocet.web.routes.pictures import pictures
from avocet.web.routes.projects import projects
from avocet.web.routes.runs import runs
from avocet.web.routes.snapshots import snapshots
from avocet.web.routes.watching import watching

ALL = (
    projects,
    classes,
    pictures,
    media,
    exchange,
    snapshots,
    audit,
    runs,
    watching,
    evaluations,
    judging,
    anatomy,
    detections,
    jobs,
    events,
)
