"""What gunicorn serves."""

from brumel.config import Config
from brumel.web import create_app

app = create_app(Config.from_env())
