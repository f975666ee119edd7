from django.apps import AppConfig


class PracticeConfig(AppConfig):
    name = "didactor.practice"
    label = "practice"
