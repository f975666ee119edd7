from django.apps import AppConfig


class StandConfig(AppConfig):
    name = "didactor.stand"
    label = "stand"
