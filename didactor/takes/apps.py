from django.apps import AppConfig


class TakesConfig(AppConfig):
    name = "didactor.takes"
    label = "takes"
