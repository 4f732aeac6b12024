"""The routes: one blueprint a subject. Handlers only translate between HTTP and `avocet.work`."""

from avocet.web.routes.anatomy import anatomy
from avocet.web.routes.audit import audit
from avocet.web.routes.clips import clips
from avocet.web.routes.exchange import exchange
from avocet.web.routes.jobs import jobs
from avocet.web.routes.judge import judge
from avocet.web.routes.labels import labels
from avocet.web.routes.models import models
from avocet.web.routes.pictures import pictures
from avocet.web.routes.project import project
from avocet.web.routes.server.machines import machines
from avocet.web.routes.server.sessions import sessions
from avocet.web.routes.snapshots import snapshots
from avocet.web.routes.train import train
from avocet.web.routes.use.addresses import addresses
from avocet.web.routes.use.detections import use
from avocet.web.routes.use.live import live
from avocet.web.routes.use.proposals import proposals

ALL = (
    project,
    labels,
    pictures,
    clips,
    exchange,
    snapshots,
    audit,
    train,
    models,
    judge,
    anatomy,
    use,
    addresses,
    live,
    proposals,
    machines,
    sessions,
    jobs,
)
