from django.urls import path

from didactor.assignments import views

app_name = "assignments"
urlpatterns = [
    path("", views.index, name="index"),
    path("new/", views.create, name="create"),
    path("<int:pk>/", views.detail, name="detail"),
    path("stand/", views.stand, name="stand"),
    path("stand/<int:pk>/", views.task, name="task"),
]
